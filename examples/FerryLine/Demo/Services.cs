namespace FerryLine.Demo;

/// <summary>The services that run, each a process with the settings of its kind.</summary>
internal sealed class Services(DemoFiles files, Action<string> report, bool trace = false) : IAsyncDisposable
{
    // Replaced, not changed: some are killed while others are started.
    private volatile IReadOnlyList<Service> all = [];

    public IReadOnlyList<Service> All => all;

    public Service One(string name) => all.Single(service => service.Name == name);

    /// <param name="program"><c>Harbour</c>, <c>Fares</c>, <c>DeckCount</c> or <c>Notices</c>.</param>
    /// <param name="name">Several may run one program, with one database, under names of their own.</param>
    /// <param name="queue">Where it receives from, if not from its own queue.</param>
    /// <param name="more">Further settings.</param>
    public void Start(string program, string? name = null, string? queue = null,
        params IEnumerable<(string Name, string Value)> more)
    {
        var settings = new Dictionary<string, string>
        {
            ["Courier:Store"] = files.Store(program),
            ["Courier:Broker"] = files.Broker,
            ["FerryLine:Data"] = files.Data,
        };
        if (trace) settings["FerryLine:Traces"] = "console";
        if (queue is not null) settings["FerryLine:Queue"] = queue;
        if ((queue ?? QueueOf(program)) is { } received)
        {
            // Production would let a lease last longer; here the audience waits for the deliveries of a worker that was
            // killed.
            settings[$"Courier:Receivers:{received}:Lease"] = "00:00:02";
        }
        else
        {
            settings["ASPNETCORE_URLS"] = "http://127.0.0.1:0";
        }
        foreach (var (key, value) in more) settings[key] = value;
        all = [.. all, new Service(program, name ?? program, files.Folder, settings, report)];
    }

    public async Task StopAsync(string name)
    {
        var service = One(name);
        await service.DisposeAsync();
        all = [.. all.Where(other => other != service)];
    }

    public async ValueTask DisposeAsync() => await Task.WhenAll(all.Select(service => service.DisposeAsync().AsTask()));

    private static string? QueueOf(string program) => program switch
    {
        "Fares" => "fares",
        "DeckCount" => "deck-count",
        "Notices" => "notices",
        _ => null,
    };
}
