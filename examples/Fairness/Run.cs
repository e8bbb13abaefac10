using System.Diagnostics;
using GentleCourier;
using GentleCourier.Watching;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace Fairness;

/// <summary>Lets several workers share one queue of notices, with one prefetch.</summary>
internal static class Run
{
    private const string Queue = "notices";

    public static async Task<Outcome> PlayAsync(
        Prefetch prefetch, int workers, IReadOnlyList<NoticeWanted> notices, CancellationToken cancel)
    {
        var folder = Directory.CreateTempSubdirectory("fairness-");
        var hosts = new List<IHost>();
        try
        {
            var bars = new List<Bar>();
            var start = Stopwatch.GetTimestamp();
            // Whoever receives makes the queue, and has its events routed to it.
            using (var first = BuildWorker(folder.FullName, prefetch, new Worker(0, start, bars)))
            {
                await first.StartAsync(cancel);
                await first.StopAsync(cancel);
            }
            await PublishAsync(folder.FullName, notices, cancel);

            for (var i = 1; i <= workers; i++)
                hosts.Add(BuildWorker(folder.FullName, prefetch, new Worker(i, start, bars)));
            // They are ready before the clock starts to matter: the first notice begins within milliseconds of the
            // start.
            await Task.WhenAll(hosts.Select(host => host.StartAsync(cancel)));
            while (await WaitingAsync(hosts[0], cancel) > 0) await Task.Delay(100, cancel);

            var began = bars.Min(b => b.Begun);
            return new Outcome($"{prefetch}",
                [.. bars.Select(b => b with { Begun = b.Begun - began, Ended = b.Ended - began })], workers);
        }
        finally
        {
            foreach (var host in hosts)
            {
                await host.StopAsync(CancellationToken.None);
                host.Dispose();
            }
            folder.Delete(recursive: true);
        }
    }

    private static async Task PublishAsync(
        string folder, IReadOnlyList<NoticeWanted> notices, CancellationToken cancel)
    {
        using var harbour = Build(folder, "harbour", _ => { });
        await harbour.StartAsync(cancel);
        await using (var connection = await harbour.Services.GetRequiredService<IStore>().OpenConnectionAsync(cancel))
        {
            await using var transaction = await connection.BeginTransactionAsync(cancel);
            await harbour.Services.GetRequiredService<IOutbox>()
                .AddManyAsync(transaction, [.. notices.Select(n => EventDraft.Of(n))], cancel);
            await transaction.CommitAsync(cancel);
        }
        while (await WaitingAsync(harbour, cancel) < notices.Count) await Task.Delay(5, cancel);
        await harbour.StopAsync(cancel);
    }

    private static async Task<long> WaitingAsync(IHost host, CancellationToken cancel)
    {
        var status = await host.Services.GetRequiredService<ICourierStatus>().ReadAsync(cancel);
        return status.Queues is [{ Figures.Waiting: { } waiting }] ? waiting : throw new InvalidOperationException(
            $"the queue {Queue} is not the only one");
    }

    private static IHost BuildWorker(string folder, Prefetch prefetch, Worker worker)
    {
        var host = Build(folder, "notices", courier => courier.Receive(Queue, queue =>
        {
            queue.Options.Prefetch = prefetch;
            queue.Handle<NoticeWanted, ComposeNotice>();
        }), services => services.AddSingleton(worker));
        return host;
    }

    private static IHost Build(
        string folder, string service, Action<CourierBuilder> configure, Action<IServiceCollection>? services = null)
    {
        var builder = Host.CreateEmptyApplicationBuilder(new HostApplicationBuilderSettings());
        builder.Configuration.AddInMemoryCollection(new Dictionary<string, string?>
        {
            ["Courier:Source"] = $"/skerryline/{service}",
            ["Courier:Store"] = $"sqlite:{Path.Combine(folder, service)}.db",
            ["Courier:Broker"] = $"sqlite:{Path.Combine(folder, "broker.db")}",
        });
        services?.Invoke(builder.Services);
        builder.Services.AddGentleCourier(
            builder.Configuration, courier => configure(courier.UseSqlite()));
        return builder.Build();
    }
}
