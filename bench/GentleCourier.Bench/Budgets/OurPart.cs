using System.Data.Common;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Bench.Budgets;

/// <summary>A part of the journey as a service that uses the library has it.</summary>
internal sealed class OurPart(Site site, int publishers, int parallel) : Part
{
    private readonly List<DbConnection> connections = [];
    private readonly Dictionary<int, Func<Tap, Task>> known = [];
    private IHost? host;

    protected override int Publishers => publishers;

    public override async Task StartAsync(string role)
    {
        host = Build(role);
        if (role != "relay") await MakeTableAsync(role == "publisher" ? Tables.Tap(site.Store) : Tables.Charge);
        await host.StartAsync();
    }

    protected override async Task<Func<Tap, Task>> PublisherAsync(int number)
    {
        lock (known)
            if (known.TryGetValue(number, out var publisher)) return publisher;
        var outbox = host!.Services.GetRequiredService<IOutbox>();
        var connection = await host.Services.GetRequiredService<IStore>().OpenConnectionAsync();
        var insert = Tables.Prepare(connection, Tables.InsertTap, 3);
        Func<Tap, Task> made = async tap =>
        {
            await using var transaction = await connection.BeginTransactionAsync();
            insert.Transaction = transaction;
            await Tables.RunAsync(insert, tap.Pier, tap.Card, tap.Sailing);
            await outbox.AddAndCommitAsync(transaction, tap);
        };
        lock (known)
        {
            connections.Add(connection);
            return known[number] = made;
        }
    }

    public override async ValueTask DisposeAsync()
    {
        if (host is null) return;
        await host.StopAsync();
        foreach (var connection in connections) await connection.DisposeAsync();
        await ((IAsyncDisposable)host).DisposeAsync();
    }

    private IHost Build(string role)
    {
        var builder = Host.CreateEmptyApplicationBuilder(new HostApplicationBuilderSettings());
        builder.Configuration.AddInMemoryCollection(new Dictionary<string, string?>
        {
            ["Courier:Source"] = "/bench",
            ["Courier:Store"] = role == "receiver" ? site.Inbox : site.Store,
            ["Courier:Broker"] = site.Broker,
            ["Courier:Relay:Enabled"] = role == "relay" ? "true" : "false",
        });
        if (site.Broker.StartsWith("amqp", StringComparison.Ordinal))
            builder.Configuration["Courier:Routes:bench.tap"] = "taps";
        // What is wrong is seen; standard output is for answers.
        builder.Logging.AddConsole(console => console.LogToStandardErrorThreshold = LogLevel.Trace)
            .SetMinimumLevel(LogLevel.Warning);
        builder.Services.AddSingleton<Action<Tap>>(Began);
        builder.Services.AddSingleton<Action>(Handled);
        builder.Services.AddGentleCourier(builder.Configuration.GetSection("Courier"), courier =>
        {
            courier.UseSqlite().UsePostgres().UseAmqp();
            if (role != "receiver") return;
            courier.Receive("taps", queue =>
            {
                (queue.Options.Parallel, queue.Options.Prefetch) = (parallel, BarePart.Prefetch);
                queue.Handle<Tap, BudgetReceiver>();
            });
        });
        return builder.Build();
    }

    private async Task MakeTableAsync(string sql)
    {
        var store = host!.Services.GetRequiredService<IStore>();
        await store.PrepareAsync(create: true);
        await using var connection = await store.OpenConnectionAsync();
        await using var command = connection.CreateCommand();
        command.CommandText = sql;
        await command.ExecuteNonQueryAsync();
    }

    private sealed class BudgetReceiver(Action<Tap> began, Action handled) : IReceiver<Tap>
    {
        public async Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
        {
            began(delivery.Data);
            var transaction = await delivery.BeginAsync(cancellationToken);
            await using var charge = Tables.Prepare(transaction.Connection!, Tables.InsertCharge, 2);
            charge.Transaction = transaction;
            await Tables.RunAsync(charge, delivery.Data.Number, delivery.Data.Card);
            handled();
        }
    }
}
