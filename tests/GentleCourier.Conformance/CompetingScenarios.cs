using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>Several workers on one queue, and one worker on several queues.</summary>
public abstract class CompetingScenarios<TPlace> where TPlace : Place, new()
{
    private static Task<IHost> StartFaresAsync(
        Crossing crossing, Log log, Prefetch prefetch, TimeProvider? clock = null) => crossing.StartAsync(
        "fares",
        c => c.Receive("taps", q =>
        {
            q.Options.Prefetch = prefetch;
            q.Handle<Tap, TapReceiver>();
        }),
        services: s =>
        {
            s.AddSingleton(log);
            if (clock is not null) s.AddSingleton(clock);
        });

    [Fact]
    public async Task A_worker_with_prefetch_1_that_is_stuck_on_a_long_job_holds_up_nothing_else()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var finish = new TaskCompletionSource();
        Log Worker() => new() { OnTap = (delivery, _) => delivery.Data.Number == 0 ? finish.Task : Task.CompletedTask };
        Log[] logs = [Worker(), Worker(), Worker()];
        foreach (var log in logs) await StartFaresAsync(crossing, log, 1);
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 30).Select(i => Crossing.TapEvent(i))]);
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { Ready: 0, InHand: 1 }, "only the long job is left");

        var stuck = logs.Single(l => l.Taps.Any(t => t.Data.Number == 0));
        Assert.Equal(0, stuck.Taps.Last().Data.Number);
        Assert.Equal(30, logs.Sum(l => l.Taps.Count));
        finish.SetResult();
        await crossing.SettledAsync();
    }

    [Fact]
    public async Task Without_a_limit_a_worker_sits_on_a_pile_and_gives_it_back_when_it_stops()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var finish = new TaskCompletionSource();
        var log = new Log { OnTap = (_, _) => finish.Task };
        var fares = await StartFaresAsync(crossing, log, Prefetch.Unlimited);
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 500).Select(i => Crossing.TapEvent(i))]);
        await Crossing.UntilAsync(async () => log.Taps.Count == 1 && (
            await crossing.FiguresAsync("taps")).InHand == 500, "it holds them all");

        var stopping = fares.StopAsync();
        finish.SetResult();
        await stopping.WaitAsync(Crossing.Limit);
        Assert.Single(log.Taps);
        Assert.True(await crossing.FiguresAsync("taps") is { Ready: 499, InHand: 0 });
        Assert.All(await crossing.Reports.PeekAsync("taps", 500), e => Assert.Equal(0, e.Attempts));
    }

    /// <summary>What nobody has said a number for is bounded by its bytes.</summary>
    [Fact]
    public async Task Without_a_limit_a_worker_holds_no_more_than_fits_into_memory()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var finish = new TaskCompletionSource();
        var log = new Log { OnTap = (_, _) => finish.Task };
        await StartFaresAsync(crossing, log, Prefetch.Unlimited);
        foreach (var part in Enumerable.Range(0, 60).Chunk(4))
            await crossing.Broker().PublishAsync([.. part.Select(Crossing.LargeEvent)]);
        var (held, same) = (0L, 0);
        await Crossing.UntilAsync(
            async () =>
            {
                var now = (await crossing.FiguresAsync("taps")).InHand ?? 0;
                (held, same) = (now, now == held && now >= 16 ? same + 1 : 0);
                return same == 20;
            },
            "it holds as much as it may, and no more");
        // As much again may have been on its way.
        Assert.InRange(held, 16, 40);
        finish.SetResult();
        await crossing.SettledAsync();
        Assert.Equal(Enumerable.Range(0, 60), log.Taps.Select(t => t.Data.Number).Order());
    }

    [Fact]
    public async Task A_self_tuned_worker_on_a_long_job_gives_back_what_others_can_begin_and_loses_nothing()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var finish = new TaskCompletionSource();
        var log = new Log { OnTap = (delivery, _) => delivery.Data.Number == 500 ? finish.Task : Task.CompletedTask };
        await StartFaresAsync(crossing, log, Prefetch.SelfTuned);
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 1000).Select(i => Crossing.TapEvent(i))]);
        await Crossing.UntilAsync(
            async () =>
                log.Taps.Any(t => t.Data.Number == 500) && await crossing.FiguresAsync(
                "taps") is { InHand: 1, Ready: > 0 }, "it holds nothing but the long job");
        finish.SetResult();
        await crossing.SettledAsync();
        Assert.Equal(Enumerable.Range(0, 1000), log.Taps.Select(t => t.Data.Number).Order());
    }

    /// <summary>Else it would stand still for most of the time, though much is waiting.</summary>
    [Fact]
    public async Task A_self_tuned_worker_holds_more_where_its_broker_is_far_away()
    {
        await using var crossing = new Crossing(new TPlace());
        crossing.Engine = new TroubledEngine(crossing.Engine) { RoundTrip = TimeSpan.FromSeconds(2) };
        await crossing.RouteAsync(("test.tap", "taps"));
        var log = new Log { OnTap = (_, cancel) => Task.Delay(5, cancel) };
        await StartFaresAsync(crossing, log, Prefetch.SelfTuned);
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 1000).Select(i => Crossing.TapEvent(i))]);
        await Crossing.UntilAsync(
            async () => (await crossing.FiguresAsync("taps")).InHand >= 100, "it holds what it works off meanwhile");
    }

    [Fact]
    public async Task One_worker_serves_several_queues_each_with_its_own_limits()
    {
        await using var crossing = new Crossing(new TPlace());
        var finish = new TaskCompletionSource();
        var log = new Log { OnTap = (_, _) => finish.Task };
        await crossing.StartAsync(
            "fares",
            c => c
                .Receive("taps", q =>
                {
                    (q.Options.Prefetch, q.Options.Parallel) = (3, 2);
                    q.Handle<Tap, TapReceiver>();
                })
                .Receive("copies", q =>
                {
                    (q.Options.Prefetch, q.Options.Parallel) = (5, 4);
                    q.Handle<Tap, TapReceiver>();
                }),
            services: s => s.AddSingleton(log));
        await crossing.RouteAsync(("test.tap", "taps"), ("test.tap", "copies"));
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 10).Select(i => Crossing.TapEvent(i))]);
        await Crossing.UntilAsync(
            async () =>
                (await crossing.FiguresAsync("taps"), await crossing.FiguresAsync("copies")) is (
                { InHand: 3, Ready: 7 }, { InHand: 5, Ready: 5 }),
            "each holds its prefetch");
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 6), "as many run as may");
        Assert.Equal([2, 4], log.Taps.GroupBy(t => t.Queue).Select(g => g.Count()).Order());
        finish.SetResult();
        await crossing.SettledAsync();
    }
}
