using System.Text.Json;

namespace GentleCourier.Bench.Budgets;

/// <summary>
/// The same part with the drivers alone, of the same concurrency: the least that is as safely done. What loses its
/// place in a kill is done again.
/// </summary>
internal sealed class BarePart(BareStore store, BareStore inbox, BareBroker broker, int publishers, int parallel) : Part
{
    /// <summary>How many deliveries a worker holds, bare or not.</summary>
    public const int Prefetch = 50;

    private volatile bool isEnding;

    protected override int Publishers => publishers;

    public static BarePart Of(Site site, int publishers, int parallel) => new(
        StoreOf(site.Store), StoreOf(site.Inbox),
        site.Broker.StartsWith("sqlite:", StringComparison.Ordinal) ? new BareSqliteBroker(site.Broker)
            : site.Broker.StartsWith("postgres:", StringComparison.Ordinal) ? new BarePostgresBroker(site.Broker)
            : new BareAmqpBroker(site.Broker),
        publishers, parallel);

    public override Task StartAsync(string role)
    {
        switch (role)
        {
            case "publisher":
                store.MakeOutbox();
                break;
            case "relay":
                broker.Make();
                Run(RelayAsync);
                break;
            default:
                inbox.MakeInbox(parallel);
                broker.Make();
                Run(() => broker.ReceiveAsync(parallel, HandleAsync));
                break;
        }
        return Task.CompletedTask;
    }

    protected override Task<Func<Tap, Task>> PublisherAsync(int number) => store.PublisherAsync(number);

    public override async ValueTask DisposeAsync()
    {
        isEnding = true;
        await store.DisposeAsync();
        await inbox.DisposeAsync();
        await broker.DisposeAsync();
    }

    private static BareStore StoreOf(string address) => address.StartsWith("sqlite:", StringComparison.Ordinal)
        ? new BareSqliteStore(address) : new BarePostgresStore(address);

    /// <summary>A loop that fails before the end ends its process.</summary>
    private void Run(Func<Task> loop) => new Thread(() =>
    {
        try
        {
            loop().GetAwaiter().GetResult();
        }
        catch (Exception e) when (!isEnding)
        {
            Console.Error.WriteLine(e);
            Environment.Exit(1);
        }
        catch (Exception) when (isEnding)
        {
            // Its connection has been closed under it.
        }
    }) { IsBackground = true }.Start();

    private async Task RelayAsync()
    {
        store.Listen();
        while (true)
        {
            var rows = await store.ReadAsync();
            if (rows.Count == 0)
            {
                await store.WaitAsync();
                continue;
            }
            await broker.SendAsync([.. rows.Select(r => r.Event)]);
            await store.DeleteAsync([.. rows.Select(r => r.Id)]);
        }
    }

    private async Task HandleAsync(int worker, byte[] json)
    {
        using var read = JsonDocument.Parse(json);
        var tap = read.RootElement.GetProperty("data").Deserialize<Tap>(JsonSerializerOptions.Web)!;
        Began(tap);
        await inbox.HandleAsync(worker, read.RootElement.GetProperty("id").GetGuid(), tap);
        Handled();
    }
}

/// <summary>A service's database with the driver alone.</summary>
internal abstract class BareStore : IAsyncDisposable
{
    protected const string Inbox = "CREATE TABLE inbox (id uuid PRIMARY KEY)",
        InsertInbox = "INSERT INTO inbox (id) VALUES ($1)",
        Insert = "INSERT INTO outbox (event) VALUES ($1)",
        Read = "SELECT id, event FROM outbox ORDER BY id LIMIT 500";

    public abstract void MakeOutbox();

    public abstract void MakeInbox(int workers);

    public abstract Task<Func<Tap, Task>> PublisherAsync(int number);

    /// <summary>From now on <see cref="WaitAsync"/> knows what is committed.</summary>
    public abstract void Listen();

    /// <summary>Until something may have been committed.</summary>
    public abstract Task WaitAsync();

    public abstract Task<List<(long Id, byte[] Event)>> ReadAsync();

    public abstract Task DeleteAsync(long[] ids);

    /// <summary>In one transaction: the inbox's row and the effect.</summary>
    public abstract Task HandleAsync(int worker, Guid id, Tap tap);

    public abstract ValueTask DisposeAsync();

    protected static string Outbox(string address) =>
        $"CREATE TABLE outbox (id {Tables.Number(address)}, event {(address[0] == 's' ? "BLOB" : "bytea")} NOT NULL)";

    /// <summary>A tap as the library would encode it.</summary>
    protected static byte[] Json(Tap tap) => JsonSerializer.SerializeToUtf8Bytes(new
    {
        specversion = "1.0", id = Guid.CreateVersion7(), source = "/bench", type = "bench.tap",
        time = DateTimeOffset.UtcNow, datacontenttype = "application/json", data = tap,
    }, JsonSerializerOptions.Web);
}

/// <summary>A queue with the driver, or the wire, alone.</summary>
internal abstract class BareBroker : IAsyncDisposable
{
    public abstract void Make();

    public abstract Task SendAsync(IReadOnlyList<byte[]> events);

    /// <summary>
    /// For ever: takes up to <see cref="BarePart.Prefetch"/>, has them handled by so many workers, and settles them.
    /// </summary>
    public abstract Task ReceiveAsync(int parallel, Func<int, byte[], Task> handle);

    public abstract ValueTask DisposeAsync();

    /// <summary>Each worker takes the next of them, until all are done.</summary>
    protected static Task HandleAllAsync(
        int parallel, IReadOnlyList<(long Id, byte[] Event)> rows, Func<int, byte[], Task> handle)
    {
        var next = -1;
        return Task.WhenAll(Enumerable.Range(0, Math.Min(parallel, rows.Count)).Select(async worker =>
        {
            await Task.Yield();
            while (Interlocked.Increment(ref next) is var mine && mine < rows.Count)
                await handle(worker, rows[mine].Event);
        }));
    }
}
