using System.Diagnostics;
using System.Globalization;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Bench;

/// <summary>What is measured besides rates against a bare twin.</summary>
internal static class Measurements
{
    public static Func<string[], Task<int>>? Find(string name) => name switch
    {
        "prefetch" => _ => PrefetchAsync(),
        "scale" => _ => ScaleAsync(),
        "wake" => _ => WakeAsync(),
        "idle" => _ => IdleAsync(),
        "postgres" => _ => Postgres.PostgresMeasurements.RunAsync(),
        "postgres-long" => Postgres.PostgresLongRun.RunAsync,
        "status" => StatusCost.RunAsync,
        "watch" => WatchCost.RunAsync,
        "handling" => HandlingCost.RunAsync,
        "publishing" => PublishingCost.RunAsync,
        "held" => HeldCost.RunAsync,
        "keys" => KeyCost.RunAsync,
        "key-order" => KeyOrderPut.RunAsync,
        "retention" => Retention.RunAsync,
        "inbox" => InboxSize.RunAsync,
        "memory" => _ => MemoryAsync(),
        "later" => LaterCost.RunAsync,
        "telemetry" => _ => TelemetryCost.RunAsync(),
        "trials" => TrialCost.RunAsync,
        "amqp" => Amqp.AmqpMeasurements.RunAsync,
        "amqp-far" => _ => Amqp.AmqpFar.RunAsync(),
        "amqp-large" => Amqp.AmqpLarge.RunAsync,
        "amqp-port" => Amqp.AmqpPort.RunAsync,
        "budget" => Budgets.BudgetCommand.RunAsync,
        "part" => Budgets.Part.RunAsync,
        "rounds" => _ => Rounds.ServeAsync(),
        "worker" => WorkAsync,
        "publisher" => PublishAsync,
        _ => null,
    };

    /// <summary>Very short work with each fixed prefetch, and with the one that tunes itself.</summary>
    private static async Task<int> PrefetchAsync()
    {
        Prefetch[] limits = [1, 5, 20, 50, 100, 200, 500, 1000, 2000, Prefetch.Unlimited, Prefetch.SelfTuned];
        var rates = limits.ToDictionary(l => l, _ => new List<double>());
        for (var round = -1; round < 5; round++)
        {
            foreach (var limit in limits)
            {
                var (warm, events) = limit.Count is > 0 and < 20 ? (1_000, 4_000) : (20_000, 100_000);
                await using var workshop = new Workshop();
                await workshop.BacklogAsync(121_000);
                var counter = new Counter();
                var host = workshop.Host(
                    courier => courier.Receive("taps", queue =>
                    {
                        (queue.Options.Prefetch, queue.Options.Inbox) = (limit, false);
                        queue.Handle<Tap, CountingReceiver>();
                    }),
                    services: services => services.AddSingleton(counter));
                await host.StartAsync();
                while (counter.Count < warm) await Task.Delay(1);
                var (began, before) = (Stopwatch.GetTimestamp(), counter.Count);
                while (counter.Count < warm + events) await Task.Delay(1);
                if (round >= 0) rates[limit].Add(Workshop.Rate(counter.Count - before, began));
            }
        }
        var best = limits.Where(l => l.Count > 0).Max(l => Median(rates[l]));
        Console.WriteLine($"{"prefetch",-12} {"events/s",10} {"of the best fixed",18}");
        foreach (var limit in limits)
            Console.WriteLine($"{limit,-12} {Median(rates[limit]),10:N0} {Median(rates[limit]) / best,18:0.00}");
        return 0;
    }

    /// <summary>1, 2 and 4 worker processes whose handlers wait for 10 ms.</summary>
    private static async Task<int> ScaleAsync()
    {
        Console.WriteLine($"{"workers",8} {"events/s",10} {"each",8} {"of proportional",16}");
        var alone = 0.0;
        foreach (var workers in new[] { 1, 2, 4 })
        {
            var rates = new List<double>();
            for (var round = 0; round < 3; round++) rates.Add(await ScaleAsync(workers));
            if (workers == 1) alone = Median(rates);
            Console.WriteLine(
                $"{workers,8} {Median(rates),10:N1} {Median(rates) / workers,8:N1} "
                + $"{Median(rates) / workers / alone,16:0.000}");
        }
        return 0;
    }

    private static async Task<double> ScaleAsync(int workers)
    {
        var (warm, measured) = (200 * workers, 1_000 * workers);
        await using var workshop = new Workshop();
        await workshop.BacklogAsync(2_000 * workers);
        var broker = await workshop.BrokerAsync();
        var children = Enumerable.Range(0, workers)
            .Select(_ => Child("worker", workshop.BrokerFile, "1000000", "10", "20")).ToList();
        var total = (await broker.Reports!.ReadFiguresAsync()).Queues[0].Ready!.Value;
        await SettledAsync(warm);
        var began = Stopwatch.GetTimestamp();
        var first = Settled((await broker.Reports!.ReadFiguresAsync()).Queues[0]);
        await SettledAsync(warm + measured);
        var rate = Workshop.Rate((int)(Settled((await broker.Reports!.ReadFiguresAsync()).Queues[0]) - first), began);
        foreach (var child in children)
        {
            child.Kill();
            await child.WaitForExitAsync();
        }
        return rate;

        long Settled(QueueFigures figures) =>
            total - (figures.Ready + figures.InHand + figures.Scheduled)!.Value;

        async Task SettledAsync(int count)
        {
            while (Settled((await broker.Reports!.ReadFiguresAsync()).Queues[0]) < count) await Task.Delay(5);
        }
    }

    /// <summary>From just before the business commit to the start of the handler, on an idle system.</summary>
    private static async Task<int> WakeAsync()
    {
        const int Count = 300;
        Console.WriteLine(
            $"{"from before the commit to the start of the handler",-60} {"median ms",10} {"95 % ms",10}");
        await using (var workshop = new Workshop())
        {
            await workshop.BrokerAsync();
            var times = new Times();
            var host = WakingHost(workshop, times, relay: true);
            await host.StartAsync();
            await PublishSlowlyAsync(host, Count);
            await PrintAsync("in the same process", times);
        }
        await using (var workshop = new Workshop())
        {
            await workshop.BrokerAsync();
            var times = new Times();
            await WakingHost(workshop, times, relay: false).StartAsync();
            using var publisher = Child("publisher", workshop.StoreFile, workshop.BrokerFile, $"{Count}");
            await publisher.WaitForExitAsync();
            await PrintAsync("published and relayed by another process", times);
        }
        Print("bare: commit, notify, read", BareWake.Measure(Count, asSafely: false));
        Print("bare: commit, notify, copy and commit, notify, lease and commit",
            BareWake.Measure(Count, asSafely: true));
        return 0;

        static async Task PrintAsync(string what, Times times)
        {
            while (times.Values.Count < Count) await Task.Delay(5);
            Print(what, [.. times.Values]);
        }

        static void Print(string what, List<double> values)
        {
            var sorted = values.Skip(50).Order().ToList();
            Console.WriteLine(
                $"{what,-60} {sorted[sorted.Count / 2],10:0.00} {sorted[(int)(sorted.Count * 0.95)],10:0.00}");
        }
    }

    private static IHost WakingHost(Workshop workshop, Times times, bool relay) => workshop.Host(
        courier => courier.Receive("taps", queue => queue.Handle<Tap, TimingReceiver>()),
        new() { ["Courier:Store"] = $"sqlite:{(relay ? workshop.StoreFile : workshop.ReceiverFile)}",
            ["Courier:Relay:Enabled"] = $"{relay}" },
        services => services.AddSingleton(times));

    private static async Task PublishSlowlyAsync(IHost host, int count)
    {
        await using var connection = await host.Services.GetRequiredService<IStorePort>().OpenConnectionAsync();
        for (var i = 0; i < count; i++)
        {
            await Task.Delay(20 + (i % 7));
            await using var transaction = await connection.BeginTransactionAsync();
            var tap = new Tap(i, "Longsand", $"{Stopwatch.GetTimestamp()}", "sailing");
            await host.Services.GetRequiredService<IOutbox>().AddAsync(transaction, tap);
            await transaction.CommitAsync();
        }
    }

    /// <summary>A process that publishes and relays.</summary>
    private static async Task<int> PublishAsync(string[] args)
    {
        await using var workshop = new Workshop();
        var host = workshop.Host(
            _ => { }, new() { ["Courier:Store"] = $"sqlite:{args[0]}", ["Courier:Broker"] = $"sqlite:{args[1]}" });
        await host.StartAsync();
        await PublishSlowlyAsync(host, int.Parse(args[2], CultureInfo.InvariantCulture));
        while ((await host.Services.GetRequiredService<IStorePort>().ReadOutboxFiguresAsync()).Waiting > 0)
            await Task.Delay(5);
        await host.StopAsync();
        return 0;
    }

    /// <summary>
    /// What a process that has nothing to do takes: 20 queues, and the same with a store and its relay besides.
    /// </summary>
    private static async Task<int> IdleAsync()
    {
        foreach (var relay in new[] { false, true })
        {
            await using var workshop = new Workshop();
            var host = workshop.Host(courier =>
            {
                for (var i = 0; i < 20; i++)
                {
                    courier.Receive($"queue-{i}", queue =>
                    {
                        queue.Options.Inbox = relay;
                        queue.Handle<Tap, CountingReceiver>();
                    });
                }
            }, relay ? null : new() { ["Courier:Store"] = null }, services => services.AddSingleton(new Counter()));
            await host.StartAsync();
            // Until what was compiled at the start has been compiled for good.
            await Task.Delay(TimeSpan.FromSeconds(45));
            var (began, before) = (Stopwatch.GetTimestamp(), Environment.CpuUsage.TotalTime);
            await Task.Delay(TimeSpan.FromSeconds(30));
            var share = (Environment.CpuUsage.TotalTime - before) / Stopwatch.GetElapsedTime(began);
            Console.WriteLine($"20 idle queues{(relay ? ", a store and its relay" : "")}: {share:0.00 %} of a core");
            await host.StopAsync();
        }
        return 0;
    }

    /// <summary>
    /// A worker's rate, what it allocates for an event, and how much memory it takes, at a short and at a long backlog
    /// in turn.
    /// </summary>
    private static async Task<int> MemoryAsync()
    {
        const int Handled = 200_000;
        int[] backlogs = [1_000, 1_000_000];
        var runs = backlogs.ToDictionary(b => b, _ => new List<double[]>());
        for (var round = 0; round < 7; round++)
        {
            foreach (var waiting in backlogs)
            {
                await using var workshop = new Workshop();
                await workshop.BacklogAsync(Handled + waiting);
                using var child = Child("worker", workshop.BrokerFile, $"{Handled}", "0", $"{ReceiveRate.Prefetch}");
                var output = await child.StandardOutput.ReadToEndAsync();
                await child.WaitForExitAsync();
                runs[waiting].Add([.. output.Split(' ').Select(n => double.Parse(n, CultureInfo.InvariantCulture))]);
            }
        }
        Console.WriteLine($"{"waiting",10} {"events/s",10} {"allocated bytes/event",22} {"peak memory MB",15}");
        foreach (var waiting in backlogs)
            Console.WriteLine(
                $"{waiting,10:N0} {Of(waiting, 0),10:N0} {Of(waiting, 1),22:N0} {Of(waiting, 2) / 1024,15:N1}");
        var ratios = runs[backlogs[1]].Zip(runs[backlogs[0]], (many, few) => many[0] / few[0]);
        Console.WriteLine(
            $"rate with many against few waiting, median of {ratios.Count()} pairs: {Median(ratios):0.00}");
        return 0;

        double Of(int waiting, int column) => Median(runs[waiting].Select(r => r[column]));
    }

    /// <summary>
    /// A worker process: BROKER COUNT WAIT-MS PREFETCH. Prints its rate, allocated bytes an event, and peak memory in
    /// KB.
    /// </summary>
    private static async Task<int> WorkAsync(string[] args)
    {
        var numbers = args[1..].Select(a => int.Parse(a, CultureInfo.InvariantCulture)).ToList();
        await using var workshop = new Workshop();
        var counter = new Counter { Wait = numbers[1] };
        var host = workshop.Host(
            courier => courier.Receive("taps", queue =>
            {
                (queue.Options.Prefetch, queue.Options.Inbox) = (numbers[2], false);
                queue.Handle<Tap, CountingReceiver>();
            }),
            new() { ["Courier:Broker"] = $"sqlite:{args[0]}", ["Courier:Store"] = null },
            services => services.AddSingleton(counter));
        var (began, allocated) = (Stopwatch.GetTimestamp(), GC.GetTotalAllocatedBytes());
        await host.StartAsync();
        while (counter.Count < numbers[0]) await Task.Delay(10);
        var bytes = (GC.GetTotalAllocatedBytes() - allocated) / counter.Count;
        var peak = File.ReadLines("/proc/self/status").Single(l => l.StartsWith("VmHWM", StringComparison.Ordinal))
            .Split(' ', StringSplitOptions.RemoveEmptyEntries)[1];
        Console.Write(
            string.Create(CultureInfo.InvariantCulture, $"{Workshop.Rate(counter.Count, began)} {bytes} {peak}"));
        await host.StopAsync();
        return 0;
    }

    private static Process Child(params string[] arguments) =>
        Process.Start(new ProcessStartInfo(
            Environment.ProcessPath!, arguments) { RedirectStandardOutput = true, UseShellExecute = false })!;

    public static double Median(IEnumerable<double> values)
    {
        var sorted = values.Order().ToList();
        return sorted[sorted.Count / 2];
    }
}

internal sealed class Times
{
    public System.Collections.Concurrent.ConcurrentQueue<double> Values { get; } = [];
}

internal sealed class TimingReceiver(Times times) : IReceiver<Tap>
{
    public Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
    {
        times.Values.Enqueue(
            Stopwatch.GetElapsedTime(long.Parse(delivery.Data.Card, CultureInfo.InvariantCulture)).TotalMilliseconds);
        return Task.CompletedTask;
    }
}
