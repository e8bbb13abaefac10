using System.Data.Common;
using System.Diagnostics;
using System.Runtime.InteropServices;
using GentleCourier;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

// usage: CrashRig publish|relay|receive|send-back --Courier:Store=… --Courier:Broker=… [settings]
// Publishes marks, relays them, or writes them down, until it is done, stopped or killed. Its own settings:
//   Rig:Fault   where it dies of SIGKILL
//   Rig:StopAt  where it is asked to stop, as by a deployment, and goes on only once it knows
//   Rig:Poison  the mark whose handling kills it
//   Rig:Fails   every other mark fails at its first attempt; where all did, the brake would come on
//   Rig:Slow    how many milliseconds each mark takes
//   Rig:Count   how many marks there are to publish
//   Rig:Timed   every other mark is published later, and each second ticks, which are written down too
var role = args[0];
var builder = Host.CreateEmptyApplicationBuilder(new HostApplicationBuilderSettings());
builder.Configuration.AddInMemoryCollection(new Dictionary<string, string?>
{
    ["Courier:Source"] = "/rig",
    ["Courier:Relay:Enabled"] = $"{role == "relay"}",
    ["Courier:Relay:Lease"] = "00:00:01",
});
builder.Configuration.AddCommandLine(args[1..]);
var settings = builder.Configuration;
var isTimed = settings.GetValue("Rig:Timed", false);
IHost? started = null;
FaultPoint.Armed = place =>
{
    if (place == settings["Rig:Fault"]) Die();
    if (place == settings["Rig:StopAt"]) AskToStop(started!);
};

builder.Logging.AddSimpleConsole(console => console.SingleLine = true).SetMinimumLevel(LogLevel.Warning);
builder.Services.AddGentleCourier(builder.Configuration.GetSection("Courier"), courier =>
{
    courier.UseSqlite().UsePostgres().UseAmqp();
    if (role == "receive") courier.Receive("marks", queue =>
    {
        queue.Options.Lease = TimeSpan.FromSeconds(1);
        if (settings.GetValue("Rig:Fails", false))
            (queue.Options.FirstDelay, queue.Options.MaxDelay) =
                (TimeSpan.FromMilliseconds(10), TimeSpan.FromMilliseconds(100));
        queue.Handle<Mark, WriteMark>();
        if (isTimed) queue.Handle<Tick, WriteTick>();
    });
    if (role == "relay" && isTimed) courier.Schedule("ticks", new Tick(), s =>
        (s.Every, s.Missed) = (TimeSpan.FromSeconds(1), Missed.Each));
});
var host = started = builder.Build();
if (role == "publish") await PatientlyAsync(PublishAsync);
else if (role == "send-back") await SendBackAsync();
else
{
    if (role == "receive") await PatientlyAsync(MakeTableAsync);
    await host.StartAsync();
    Console.WriteLine("started");
    await host.WaitForShutdownAsync();
}

// A service that is started beside a dozen others on two cores tries again where a database does not answer in time.
async Task PatientlyAsync(Func<Task> work)
{
    for (var tries = 1; ; tries++)
    {
        try
        {
            await work();
            return;
        }
        catch (Exception e) when (tries < 10
            && e is CourierException { IsTransient: true } or DbException { IsTransient: true })
        {
            await Task.Delay(TimeSpan.FromMilliseconds(200));
        }
    }
}

// Several start at once, and one of them makes the table.
async Task MakeTableAsync()
{
    var store = host.Services.GetRequiredService<IStorePort>();
    await store.PrepareAsync(create: true);
    await using var connection = await store.OpenConnectionAsync();
    try
    {
        await Sql.RunAsync(connection, null, "CREATE TABLE IF NOT EXISTS mark (number INTEGER, attempt INTEGER)");
        await Sql.RunAsync(connection, null, "CREATE TABLE IF NOT EXISTS tick (second INTEGER)");
    }
    catch (DbException)
    {
        await Sql.RunAsync(connection, null, "SELECT 1 FROM mark");
        await Sql.RunAsync(connection, null, "SELECT 1 FROM tick");
    }
}

// Each mark in a transaction of its own, with a row that says so; what a killed run has published is not published
// again.
async Task PublishAsync()
{
    var store = host.Services.GetRequiredService<IStorePort>();
    await store.PrepareAsync(create: true);
    await using var connection = await store.OpenConnectionAsync();
    await Sql.RunAsync(connection, null, "CREATE TABLE IF NOT EXISTS sent (number INTEGER PRIMARY KEY)");
    for (var number = 0; number < settings.GetValue("Rig:Count", 10); number++)
    {
        await using var transaction = await connection.BeginTransactionAsync();
        if (await Sql.RunAsync(
            connection, transaction, "INSERT INTO sent VALUES (@0) ON CONFLICT DO NOTHING", number) == 1)
        {
            await host.Services.GetRequiredService<IOutbox>().AddAsync(
                transaction, new Mark(number),
                new() { Due = isTimed && number % 2 == 0 ? DueTime.In(TimeSpan.FromMilliseconds(200)) : null });
        }
        await transaction.CommitAsync();
    }
}

// Three at a time.
async Task SendBackAsync()
{
    var letters = host.Services.GetRequiredService<IBroker>().DeadLetters!;
    while (await letters.ReadAsync(null, 3) is { Count: > 0 } some)
        await letters.SendBackAsync([.. some.Select(letter => new LetterReturn(letter))]);
}

static void AskToStop(IHost host)
{
    _ = Signals.Send(Environment.ProcessId, 15);
    host.Services.GetRequiredService<IHostApplicationLifetime>().ApplicationStopping.WaitHandle
        .WaitOne(TimeSpan.FromMinutes(1));
}

static void Die()
{
    Process.GetCurrentProcess().Kill();
    // The signal is on its way; nothing more may happen here until it arrives.
    Thread.Sleep(Timeout.Infinite);
}

[WireType("rig.mark")]
internal sealed record Mark(int Number);

/// <summary>Writes a row without any check of its own: acting twice shows.</summary>
internal sealed class WriteMark(IConfiguration settings) : IReceiver<Mark>
{
    public async Task HandleAsync(Delivery<Mark> delivery, CancellationToken cancellationToken)
    {
        if (delivery.Attempt == 1 && delivery.Data.Number % 2 == 0 && settings.GetValue("Rig:Fails", false))
            throw new InvalidOperationException("not at the first time");
        if (settings["Rig:Poison"] == $"{delivery.Data.Number}") Process.GetCurrentProcess().Kill();
        await Task.Delay(settings.GetValue("Rig:Slow", 0), cancellationToken);
        var transaction = await delivery.BeginAsync(cancellationToken);
        await Sql.RunAsync(transaction.Connection!, transaction, "INSERT INTO mark VALUES (@0, @1)",
            delivery.Data.Number, delivery.Attempt);
    }
}

[WireType("rig.tick")]
internal sealed record Tick;

/// <summary>Writes down which second it was.</summary>
internal sealed class WriteTick : IReceiver<Tick>
{
    public async Task HandleAsync(Delivery<Tick> delivery, CancellationToken cancellationToken)
    {
        var transaction = await delivery.BeginAsync(cancellationToken);
        await Sql.RunAsync(transaction.Connection!, transaction, "INSERT INTO tick VALUES (@0)",
            (int)delivery.Event.Time!.Value.ToUnixTimeSeconds());
    }
}

internal static class Sql
{
    public static async Task<int> RunAsync(
        DbConnection connection, DbTransaction? transaction, string sql, params int[] values)
    {
        await using var command = connection.CreateCommand();
        command.Transaction = transaction;
        command.CommandText = sql;
        for (var i = 0; i < values.Length; i++)
        {
            var parameter = command.CreateParameter();
            (parameter.ParameterName, parameter.Value) = ($"@{i}", values[i]);
            command.Parameters.Add(parameter);
        }
        return await command.ExecuteNonQueryAsync();
    }
}

internal static class Signals
{
    [DllImport("libc", EntryPoint = "kill")]
    [DefaultDllImportSearchPaths(DllImportSearchPath.SafeDirectories)]
    public static extern int Send(int process, int signal);
}
