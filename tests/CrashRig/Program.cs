using System.Diagnostics;
using GentleCourier;
using GentleCourier.Events;
using GentleCourier.Receiving;
using GentleCourier.Sqlite;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

// usage: CrashRig relay|receive STORE BROKER [FAULT POINT]
// Runs a relay of STORE, or a receiver of queue "marks" with its inbox in STORE, until it is stopped or killed.
var (role, store, broker) = (args[0], args[1], args[2]);
if (args.Length > 3)
{
    FaultPoint.Armed = place =>
    {
        if (place == args[3]) Process.GetCurrentProcess().Kill();
    };
}

var builder = Host.CreateEmptyApplicationBuilder(new HostApplicationBuilderSettings());
builder.Configuration.AddInMemoryCollection(new Dictionary<string, string?>
{
    ["Courier:Source"] = $"/rig/{role}",
    ["Courier:Store"] = $"sqlite:{store}",
    ["Courier:Broker"] = $"sqlite:{broker}",
    ["Courier:Relay:Enabled"] = $"{role == "relay"}",
    ["Courier:Relay:Lease"] = "00:00:01",
});
builder.Services.AddGentleCourier(builder.Configuration.GetSection("Courier"), courier =>
{
    courier.UseSqlite();
    if (role == "receive") courier.Receive("marks", queue =>
    {
        queue.Options.Lease = TimeSpan.FromSeconds(1);
        queue.Handle<Mark, WriteMark>();
    });
});
await builder.Build().RunAsync();

[WireType("rig.mark")]
internal sealed record Mark(int Number);

/// <summary>Writes a row without any check of its own: acting twice shows.</summary>
internal sealed class WriteMark : IReceiver<Mark>
{
    public async Task HandleAsync(Delivery<Mark> delivery, CancellationToken cancellationToken)
    {
        var transaction = await delivery.BeginAsync(cancellationToken);
        await using var command = transaction.Connection!.CreateCommand();
        command.CommandText = "INSERT INTO mark (number) VALUES (@number)";
        var number = command.CreateParameter();
        (number.ParameterName, number.Value) = ("@number", delivery.Data.Number);
        command.Parameters.Add(number);
        await command.ExecuteNonQueryAsync(cancellationToken);
    }
}
