using GentleCourier.Bench.Postgres;
using Npgsql;
using NpgsqlTypes;

namespace GentleCourier.Bench.Budgets;

/// <summary>A store on the server: a connection each, and a notification with each commit.</summary>
internal sealed class BarePostgresStore(string address) : BareStore
{
    private readonly BareServer server = new(address);
    private readonly Dictionary<int, Func<Tap, Task>> known = [];
    private (NpgsqlConnection Connection, NpgsqlCommand Inbox, NpgsqlCommand Charge)[] workers = [];
    private NpgsqlCommand? read, delete;

    public override void MakeOutbox()
    {
        using var connection = server.Open();
        ServerWorkshop.Execute(connection, $"{Tables.Tap(address)}; {Outbox(address)}");
    }

    public override void MakeInbox(int workers)
    {
        using var connection = server.Open();
        ServerWorkshop.Execute(connection, $"{Inbox}; {Tables.Charge}");
        this.workers = [.. Enumerable.Range(0, workers).Select(_ => server.Open()).Select(c => (
            c, ServerWorkshop.Prepare(c, InsertInbox, NpgsqlDbType.Uuid),
            ServerWorkshop.Prepare(c, Tables.InsertCharge, NpgsqlDbType.Bigint, NpgsqlDbType.Text)))];
    }

    public override Task<Func<Tap, Task>> PublisherAsync(int number)
    {
        lock (known)
        {
            if (known.TryGetValue(number, out var publisher)) return Task.FromResult(publisher);
            var connection = server.Open();
            var tapInsert = ServerWorkshop.Prepare(
                connection, Tables.InsertTap, NpgsqlDbType.Text, NpgsqlDbType.Text, NpgsqlDbType.Text);
            var insert = ServerWorkshop.Prepare(
                connection, $"WITH added AS ({Insert}) SELECT pg_notify('news', '')", NpgsqlDbType.Bytea);
            return Task.FromResult(known[number] = async tap =>
            {
                await using var transaction = await connection.BeginTransactionAsync();
                await ServerWorkshop.With(tapInsert, tap.Pier, tap.Card, tap.Sailing).ExecuteNonQueryAsync();
                await ServerWorkshop.With(insert, Json(tap)).ExecuteNonQueryAsync();
                await transaction.CommitAsync();
            });
        }
    }

    public override void Listen()
    {
        server.Listen();
        var connection = server.Open();
        read = ServerWorkshop.Prepare(connection, Read);
        delete = ServerWorkshop.Prepare(
            connection, "DELETE FROM outbox WHERE id = ANY ($1)", NpgsqlDbType.Array | NpgsqlDbType.Bigint);
    }

    public override Task WaitAsync() => server.WaitAsync();

    public override Task<List<(long Id, byte[] Event)>> ReadAsync() => ServerWorkshop.ReadAsync(read!);

    public override Task DeleteAsync(long[] ids) => ServerWorkshop.With(delete!, (object)ids).ExecuteNonQueryAsync();

    public override async Task HandleAsync(int worker, Guid id, Tap tap)
    {
        var (connection, inbox, charge) = workers[worker];
        await using var transaction = await connection.BeginTransactionAsync();
        await ServerWorkshop.With(inbox, id).ExecuteNonQueryAsync();
        await ServerWorkshop.With(charge, (long)tap.Number, tap.Card).ExecuteNonQueryAsync();
        await transaction.CommitAsync();
    }

    public override ValueTask DisposeAsync() => server.DisposeAsync();
}

internal sealed class BarePostgresBroker(string address) : BareBroker
{
    private readonly BareServer server = new(address);
    private NpgsqlCommand? enqueue;

    public override void Make()
    {
        using var connection = server.Open();
        // Both parts make it, at the same moment.
        ServerWorkshop.Execute(connection, $"SELECT pg_advisory_xact_lock(1); {ServerWorkshop.BareQueue}");
        enqueue = ServerWorkshop.Prepare(
            server.Open(),
            "WITH added AS (INSERT INTO queue (event) SELECT e FROM unnest($1) e) SELECT pg_notify('news', '')",
            NpgsqlDbType.Array | NpgsqlDbType.Bytea);
    }

    public override Task SendAsync(IReadOnlyList<byte[]> events) =>
        ServerWorkshop.With(enqueue!, (object)events.ToArray()).ExecuteNonQueryAsync();

    public override async Task ReceiveAsync(int parallel, Func<int, byte[], Task> handle)
    {
        var connection = server.Open();
        await using var lease = ServerWorkshop.BareLease(connection, BarePart.Prefetch);
        await using var delete = ServerWorkshop.BareDelete(connection);
        server.Listen();
        while (true)
        {
            var rows = await ServerWorkshop.ReadAsync(lease);
            if (rows.Count == 0)
            {
                await server.WaitAsync();
                continue;
            }
            await HandleAllAsync(parallel, rows, handle);
            await ServerWorkshop.With(delete, (object)rows.Select(r => r.Id).ToArray()).ExecuteNonQueryAsync();
        }
    }

    public override ValueTask DisposeAsync() => server.DisposeAsync();
}

/// <summary>Plain connections to a database, and one that listens.</summary>
internal sealed class BareServer(string address) : IAsyncDisposable
{
    private readonly List<NpgsqlConnection> opened = [];
    private NpgsqlConnection? listener;

    public NpgsqlConnection Open()
    {
        var parts = new Uri(address);
        var connection = new NpgsqlConnection(
            $"Host={parts.Host};Port={parts.Port};Username={parts.UserInfo};Pooling=false;"
            + $"Database={parts.AbsolutePath[1..]}");
        connection.Open();
        lock (opened) opened.Add(connection);
        return connection;
    }

    public void Listen() => ServerWorkshop.Execute(listener = Open(), "LISTEN news");

    public Task WaitAsync() => listener!.WaitAsync();

    public async ValueTask DisposeAsync()
    {
        foreach (var connection in opened) await connection.DisposeAsync();
    }
}
