using Microsoft.Data.Sqlite;

namespace GentleCourier.Bench.Budgets;

/// <summary>
/// A file has one writer: whoever writes takes turns on one connection, which beats connections that wait for each
/// other's lock.
/// </summary>
internal sealed class BareSqliteStore(string address) : BareStore
{
    private readonly BareFile file = new(address);
    private SqliteCommand? publishTap, publish, read, delete, inbox, charge;

    public override void MakeOutbox() => file.Execute($"{Tables.Tap(address)}; {Outbox(address)}");

    public override void MakeInbox(int workers)
    {
        file.Execute($"{Inbox} WITHOUT ROWID; {Tables.Charge}");
        (inbox, charge) = (file.Prepare(InsertInbox, 1), file.Prepare(Tables.InsertCharge, 2));
    }

    public override Task<Func<Tap, Task>> PublisherAsync(int number)
    {
        lock (file)
        {
            publishTap ??= file.Prepare(Tables.InsertTap, 3);
            publish ??= file.Prepare(Insert, 1);
        }
        return Task.FromResult<Func<Tap, Task>>(tap =>
        {
            var json = Json(tap);
            lock (file)
            {
                file.Execute("BEGIN IMMEDIATE");
                Workshop.Run(publishTap, tap.Pier, tap.Card, tap.Sailing);
                Workshop.Run(publish, json);
                file.Execute("COMMIT");
                file.Signal();
            }
            return Task.CompletedTask;
        });
    }

    public override void Listen()
    {
        file.Listen();
        (read, delete) = (file.Prepare(Read, 0), file.Prepare("DELETE FROM outbox WHERE id = $1", 1));
    }

    public override Task WaitAsync() => file.WaitAsync();

    public override Task<List<(long Id, byte[] Event)>> ReadAsync() => Task.FromResult(BareFile.Rows(read!));

    public override Task DeleteAsync(long[] ids)
    {
        file.Execute("BEGIN IMMEDIATE");
        foreach (var id in ids) Workshop.Run(delete!, id);
        file.Execute("COMMIT");
        return Task.CompletedTask;
    }

    public override Task HandleAsync(int worker, Guid id, Tap tap)
    {
        lock (file)
        {
            file.Execute("BEGIN IMMEDIATE");
            Workshop.Run(inbox!, id.ToByteArray(bigEndian: true));
            Workshop.Run(charge!, tap.Number, tap.Card);
            file.Execute("COMMIT");
        }
        return Task.CompletedTask;
    }

    public override ValueTask DisposeAsync() => file.DisposeAsync();
}

internal sealed class BareSqliteBroker(string address) : BareBroker
{
    private readonly BareFile file = new(address);

    public override void Make() => file.Execute(RelayRate.BareBroker
        .Replace("CREATE TABLE", "CREATE TABLE IF NOT EXISTS", StringComparison.Ordinal)
        .Replace("CREATE INDEX", "CREATE INDEX IF NOT EXISTS", StringComparison.Ordinal));

    public override Task SendAsync(IReadOnlyList<byte[]> events)
    {
        using var insert = file.Prepare("INSERT INTO queue (due, event) VALUES (0, $1)", 1);
        file.Execute("BEGIN IMMEDIATE");
        foreach (var json in events) Workshop.Run(insert, json);
        file.Execute("COMMIT");
        file.Signal();
        return Task.CompletedTask;
    }

    public override async Task ReceiveAsync(int parallel, Func<int, byte[], Task> handle)
    {
        using var lease = file.Prepare(
            "UPDATE queue SET due = 1, lease = 1, attempts = attempts + 1 WHERE id IN (SELECT id FROM queue WHERE "
            + $"due = 0 ORDER BY due LIMIT {BarePart.Prefetch}) RETURNING id, event", 0);
        using var look = file.Prepare("SELECT 1 FROM queue WHERE due = 0 LIMIT 1", 0);
        using var delete = file.Prepare("DELETE FROM queue WHERE id = $1 AND lease = 1", 1);
        file.Listen();
        while (true)
        {
            if (look.ExecuteScalar() is null)
            {
                await file.WaitAsync();
                continue;
            }
            file.Execute("BEGIN IMMEDIATE");
            var rows = BareFile.Rows(lease);
            file.Execute("COMMIT");
            await HandleAllAsync(parallel, rows, handle);
            file.Execute("BEGIN IMMEDIATE");
            foreach (var row in rows) Workshop.Run(delete, row.Id);
            file.Execute("COMMIT");
        }
    }

    public override ValueTask DisposeAsync() => file.DisposeAsync();
}

/// <summary>A plain connection to a file, and a second file by which others say that they have written.</summary>
internal sealed class BareFile(string address) : IAsyncDisposable
{
    private readonly string path = address["sqlite:".Length..];
    private readonly SemaphoreSlim written = new(0);
    private SqliteConnection? connection;
    private FileSystemWatcher? watcher;
    private FileStream? signal;

    public void Execute(string sql) => Workshop.Execute(Connection, sql);

    public SqliteCommand Prepare(string sql, int parameters) => Workshop.Prepare(Connection, sql, parameters);

    public void Signal()
    {
        signal ??= new FileStream($"{path}.signal", new FileStreamOptions
        {
            Mode = FileMode.OpenOrCreate, Access = FileAccess.Write, Share = FileShare.ReadWrite, BufferSize = 0,
        });
        signal.Position = 0;
        signal.WriteByte(1);
    }

    public void Listen()
    {
        watcher = new FileSystemWatcher(Path.GetDirectoryName(path)!, $"{Path.GetFileName(path)}.signal")
        {
            NotifyFilter = NotifyFilters.LastWrite | NotifyFilters.FileName,
        };
        watcher.Changed += (_, _) => written.Release();
        watcher.Created += (_, _) => written.Release();
        watcher.EnableRaisingEvents = true;
    }

    public async Task WaitAsync()
    {
        await written.WaitAsync();
        while (written.Wait(0))
        {
        }
    }

    public static List<(long Id, byte[] Event)> Rows(SqliteCommand command)
    {
        var rows = new List<(long, byte[])>();
        using var reader = command.ExecuteReader();
        while (reader.Read()) rows.Add((reader.GetInt64(0), (byte[])reader.GetValue(1)));
        return rows;
    }

    public async ValueTask DisposeAsync()
    {
        watcher?.Dispose();
        signal?.Dispose();
        if (connection is not null) await connection.DisposeAsync();
    }

    private SqliteConnection Connection
    {
        get
        {
            if (connection is null)
            {
                connection = new SqliteConnection($"Data Source={path};Pooling=False");
                connection.Open();
                Workshop.Execute(
                    connection, "PRAGMA busy_timeout = 60000; PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL;");
            }
            return connection;
        }
    }
}
