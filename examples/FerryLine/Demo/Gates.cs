using System.Net;
using System.Net.Sockets;
using System.Net.Http.Json;

namespace FerryLine.Demo;

/// <summary>Replays the day as the gates would: in rushes, over a hundred connections at once.</summary>
internal sealed class Gates : IDisposable
{
    private const int Connections = 100;

    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(200);

    private readonly HttpClient http = new(
        new SocketsHttpHandler { MaxConnectionsPerServer = Connections }) { Timeout = TimeSpan.FromSeconds(30) };
    private readonly IReadOnlyList<Uri> harbours;
    private readonly int patience;
    private readonly Random random;
    private int requests;
    private int refused;

    /// <param name="harbours">Where the harbour listens; a gate that gets no answer from one turns to the next.</param>
    /// <param name="seed">Which taps are sent twice.</param>
    /// <param name="patience">How often a gate tries; a wait of 0.2 s lies in between.</param>
    public Gates(IReadOnlyList<Uri> harbours, int seed, int patience = 5)
    {
        this.harbours = harbours;
        this.patience = patience;
        random = new Random(seed);
    }

    public int Requests => requests;

    /// <summary>Requests that the harbour answered with "bad request".</summary>
    public int Refused => refused;

    /// <summary>Taps of one sailing, all at once; a flaky gate sends one in twenty twice.</summary>
    public async Task BoardAsync(IEnumerable<Tap> taps, CancellationToken cancel)
    {
        var toSend = taps.SelectMany(tap => Enumerable.Repeat(tap, random.Next(20) == 0 ? 2 : 1)).ToList();
        await Parallel.ForEachAsync(
            toSend, new ParallelOptions { MaxDegreeOfParallelism = Connections, CancellationToken = cancel },
            async (tap, c) => await SendAsync("taps", () => JsonContent.Create(tap), c));
    }

    public Task DepartAsync(Sailing sailing, CancellationToken cancel) =>
        SendAsync(
            "departures", () => JsonContent.Create(new { Sailing = sailing.Id, DepartedAt = sailing.Departs }), cancel);

    /// <summary>A sailing of the timetable.</summary>
    public Task PlanAsync(string sailing, DateTimeOffset departsAt, CancellationToken cancel) =>
        SendAsync("sailings", () => JsonContent.Create(new { Sailing = sailing, DepartsAt = departsAt }), cancel);

    /// <summary>It will not sail.</summary>
    public Task CancelAsync(string sailing, CancellationToken cancel) =>
        SendAsync("cancellations", () => JsonContent.Create(new { Sailing = sailing }), cancel);

    /// <summary>A body that is not JSON; the harbour should say so and record nothing.</summary>
    public Task BabbleAsync(CancellationToken cancel) =>
        SendAsync("taps", () => new StringContent("Longsand;card-0417;06:12", null, "application/json"), cancel);

    public void Dispose() => http.Dispose();

    private async Task SendAsync(string path, Func<HttpContent> content, CancellationToken cancel)
    {
        for (var attempt = 1; ; attempt++)
        {
            var number = Interlocked.Increment(ref requests);
            var problem = await TrySendAsync(new Uri(harbours[number % harbours.Count], path), content, cancel);
            if (problem is null) return;
            // A gate that gets no answer sends again; that the first may have counted is what ids are for.
            if (attempt == patience) throw new HttpRequestException($"{problem} to /{path}, {patience} times");
            await Task.Delay(Pause, cancel);
        }
    }

    private async Task<string?> TrySendAsync(Uri address, Func<HttpContent> content, CancellationToken cancel)
    {
        try
        {
            using var body = content();
            using var response = await http.PostAsync(address, body, cancel);
            if (response.IsSuccessStatusCode) return null;
            if (response.StatusCode != HttpStatusCode.BadRequest)
                return $"the harbour answered {(int)response.StatusCode}";
            Interlocked.Increment(ref refused);
            return null;
        }
        // A connection that is cut in the moment in which it is made fails as what is below HTTP.
        catch (Exception e) when (e is HttpRequestException or SocketException)
        {
            return $"the harbour cannot be reached ({e.Message})";
        }
    }
}
