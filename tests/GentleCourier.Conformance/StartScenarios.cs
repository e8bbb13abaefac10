using System.Transactions;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Diagnostics.HealthChecks;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Conformance;

/// <summary>A program that is started for the first time, in whatever order and with whatever slip.</summary>
public abstract class StartScenarios<TPlace> where TPlace : Place, new()
{
    private static async Task<HealthCheckResult> ReadyAsync(IHost host) =>
        await host.Services.GetRequiredService<CourierReadyHealthCheck>().CheckHealthAsync(null!);

    private static string[] FailuresIn(Reports reports) =>
        [.. reports.Lines.Where(l => l.Contains(" failed: ", StringComparison.Ordinal))];

    [Fact]
    public async Task Modules_of_one_program_share_one_courier_and_the_queues_of_each_are_received()
    {
        await using var crossing = new Crossing(new TPlace());
        var (log, boarded) = (new Log(), new TaskCompletionSource<int>());
        var harbour = await crossing.StartAsync(
            "harbour", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()), services: s => s
                .AddSingleton(log).AddSingleton(boarded)
                // Another module, which knows nothing of the one that says where store and broker are.
                .AddGentleCourier(c => c.Receive("charges", q => q.Handle<Charged, Charges>())));
        await harbour.PublishAsync(new Charged(4));
        await harbour.PublishAsync(new Tap(5));
        Assert.Equal(4, await boarded.Task.WaitAsync(Crossing.Limit));
        await crossing.SettledAsync();
        Assert.Equal(5, Assert.Single(log.Taps).Data.Number);
        Assert.Single(harbour.Services.GetServices<IHostedService>());
    }

    private sealed class Charges(TaskCompletionSource<int> seen) : IReceiver<Charged>
    {
        public Task HandleAsync(Delivery<Charged> delivery, CancellationToken cancellationToken)
        {
            seen.TrySetResult(delivery.Data.Number);
            return Task.CompletedTask;
        }
    }

    [Fact]
    public async Task A_publisher_that_starts_first_makes_the_brokers_tables_and_no_queue()
    {
        await using var crossing = new Crossing(new TPlace());
        using var reports = new Reports();
        var harbour = await crossing.StartAsync("harbour", services: s => s.AddSingleton<ILoggerFactory>(reports));
        await Crossing.UntilAsync(async () => await ReadyAsync(harbour) is { Status: HealthStatus.Healthy },
            "the publisher is ready");
        Assert.Empty((await crossing.Reports.ReadTopologyAsync()).Queues);
        // And what it publishes waits for whoever comes first.
        await harbour.PublishAsync(new Tap(1));
        var log = new Log();
        await crossing.StartAsync("fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()),
            services: s => s.AddSingleton(log));
        await crossing.SettledAsync();
        Assert.Single(log.Taps);
        Assert.Empty(FailuresIn(reports));
    }

    [Fact]
    public async Task Where_it_may_not_make_them_it_says_so_once_and_is_healthy_with_a_note()
    {
        await using var crossing = new Crossing(new TPlace());
        using var reports = new Reports();
        var trouble = new TroubledEngine(crossing.Engine);
        crossing.Engine = trouble;
        var looks = 0;
        trouble.Before = call => _ = call == "PrepareAsync" ? Interlocked.Increment(ref looks) : 0;
        await crossing.SharedStore("harbour").PrepareAsync(create: true);
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:CreateMissing"] = "false" },
            services: s => s.AddSingleton<ILoggerFactory>(reports));
        await harbour.PublishAsync(new Tap(1));
        await Crossing.UntilAsync(() => Task.FromResult(Volatile.Read(ref looks) >= 3), "it has looked three times");
        var ready = await ReadyAsync(harbour);
        Assert.Equal(HealthStatus.Healthy, ready.Status);
        Assert.Contains("courier schema apply", ready.Description, StringComparison.Ordinal);
        Assert.Single(reports.Lines, l => l.Contains("until the broker's tables are there", StringComparison.Ordinal));
        Assert.Empty(FailuresIn(reports));
        Assert.Contains("courier schema apply",
            (await crossing.SharedStore("harbour").ReadOutboxFiguresAsync()).LastError, StringComparison.Ordinal);

        await crossing.RouteAsync(("test.tap", "taps"));
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { Ready: 1 }, "the tap has been relayed");
        await Crossing.UntilAsync(
            async () => await ReadyAsync(harbour) is { Status: HealthStatus.Healthy, Description: null },
            "there is no note any more");
    }

    [Fact]
    public async Task What_is_added_alone_is_refused_where_an_ambient_transaction_would_not_take_it_back()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" });
        var outbox = harbour.Services.GetRequiredService<IOutbox>();
        using (new TransactionScope(TransactionScopeAsyncFlowOption.Enabled))
        {
            Assert.Contains("AddAloneAsync has a transaction of its own, and is called within a TransactionScope",
                (await Assert.ThrowsAsync<CourierException>(() => outbox.AddAloneAsync(new Tap(1)))).Message,
                StringComparison.Ordinal);
            Assert.Contains("TransactAsync has a transaction of its own",
                (await Assert.ThrowsAsync<CourierException>(() => harbour.Services.GetRequiredService<IStore>()
                    .TransactAsync((transaction, stop) => outbox.AddAsync(
                        transaction, new Tap(2), cancellationToken: stop)))).Message,
                StringComparison.Ordinal);
            using var aside = new TransactionScope(
                TransactionScopeOption.Suppress, TransactionScopeAsyncFlowOption.Enabled);
            await outbox.AddAloneAsync(new Tap(3));
        }
        Assert.Equal(1, (await harbour.Store().ReadOutboxFiguresAsync()).Waiting);
    }

    [Fact]
    public async Task Settings_of_what_others_receive_are_one_line_at_the_start_with_the_nearest_known_name()
    {
        await using var crossing = new Crossing(new TPlace());
        using var reports = new Reports();
        await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()),
            new()
            {
                ["Courier:Receivers:tap:Prefetch"] = "5", ["Courier:Receivers:notices:Parallel"] = "2",
                ["Courier:Receivers:taps:Parallel"] = "2", ["Courier:Schedules:tide:Every"] = "00:10:00",
            },
            s => s.AddSingleton(new Log()).AddSingleton<ILoggerFactory>(reports));
        Assert.Equal(
            "Settings without effect here, since this process has registered nothing by these names: "
            + "Courier:Schedules:tide, Courier:Receivers:notices, Courier:Receivers:tap (did you mean taps?)",
            Assert.Single(reports.Lines, l => l.StartsWith("Settings", StringComparison.Ordinal)));
    }

    /// <summary>What parts do is supervised; should one end all the same, nobody is to find out days later.</summary>
    [Fact]
    public async Task A_part_that_fails_for_good_ends_the_process_and_says_so()
    {
        await using var crossing = new Crossing(new TPlace());
        using var reports = new Reports();
        crossing.Engine = new TroubledEngine(crossing.Engine)
        {
            Before = call =>
            {
                // Only where receivers are begun, outside of what they do.
                if (call == "Services" && Environment.StackTrace.Contains("ReceiverHost", StringComparison.Ordinal))
                    throw new InvalidOperationException("a register is no such thing");
            },
        };
        var fares = await crossing.StartAsync("fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()),
            services: s => s.AddSingleton(new Log()).AddSingleton<ILoggerFactory>(reports));
        var stopping = fares.Services.GetRequiredService<IHostApplicationLifetime>().ApplicationStopping;
        await Crossing.UntilAsync(() => Task.FromResult(stopping.IsCancellationRequested), "the process ends");
        Assert.Contains(reports.Lines, l => l.StartsWith("ReceiverHost has failed for good", StringComparison.Ordinal));
        Assert.Contains(reports.Errors, e => e.Message == "a register is no such thing");
    }
}
