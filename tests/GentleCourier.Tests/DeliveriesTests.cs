using GentleCourier.Engines;
using GentleCourier.Receiving.Handling;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Tests;

public sealed class DeliveriesTests
{
    private static readonly TimeSpan Limit = TimeSpan.FromMinutes(4);

    private static Deliveries NewDeliveries(int prefetch, TimeProvider clock) =>
        new(prefetch, 2, 1, new AttemptCounts(clock), clock);

    private static Deliveries.LinkWait Open(Deliveries deliveries) =>
        deliveries.Open(new LinkAccount { Settler = null! });

    private static List<TakenDelivery> Bring(Deliveries deliveries, Deliveries.LinkWait link, int count)
    {
        var taken = Enumerable.Range(1, count).Select(
            _ => new TakenDelivery(new Nothing(), new(1, 0, 0, 0), link.Account, deliveries)).ToList();
        Assert.True(deliveries.Came(link, taken, areSuspect: false));
        return taken;
    }

    /// <summary>However few there are, and whoever asks first: the loop of the link, or the handler.</summary>
    [Theory, InlineData(true), InlineData(false)]
    public async Task A_few_that_are_decided_do_not_wait_for_more_for_long(bool isAskedFirst)
    {
        using var deliveries = NewDeliveries(100, TimeProvider.System);
        var link = Open(deliveries);
        var brought = Bring(deliveries, link, 4);
        brought[0].Settle(Outcome.Accepted);
        await deliveries.Changed(link, isReceiving: true).WaitAsync(Limit, TestContext.Current.CancellationToken);
        Assert.True(deliveries.Next(link, isReceiving: true).Settles);
        deliveries.Told(link);

        var asked = isAskedFirst ? deliveries.Changed(link, isReceiving: true) : null;
        brought[1].Settle(Outcome.Accepted);
        asked ??= deliveries.Changed(link, isReceiving: true);
        await asked.WaitAsync(Limit, TestContext.Current.CancellationToken);
        Assert.True(deliveries.Next(link, isReceiving: true).Settles);
        deliveries.Close(link);
    }

    [Fact]
    public async Task Who_takes_up_waits_until_something_lies_ready_and_gets_nothing_that_has_gone_back()
    {
        var clock = new FakeTimeProvider();
        using var deliveries = NewDeliveries(4, clock);
        var link = Open(deliveries);
        var first = deliveries.TakeUpAsync(TestContext.Current.CancellationToken).AsTask();
        Assert.False(first.IsCompleted);
        var brought = Bring(deliveries, link, 3);
        Assert.Same(brought[0], await first.WaitAsync(Limit, TestContext.Current.CancellationToken));

        deliveries.Pause(TimeSpan.FromMinutes(1));
        Assert.Equal((true, 0), (deliveries.Next(link, false) is { Settles: true, Fetches: 0 }, deliveries.Now.Ready));
        deliveries.Told(link);
        var second = deliveries.TakeUpAsync(TestContext.Current.CancellationToken).AsTask();
        var changed = deliveries.Changed(link, isReceiving: false);
        clock.Advance(TimeSpan.FromSeconds(59));
        Assert.False(changed.IsCompleted);
        // After it there are a few to be tried.
        clock.Advance(TimeSpan.FromSeconds(1));
        await changed.WaitAsync(Limit, TestContext.Current.CancellationToken);
        Assert.Equal(4, deliveries.Next(link, isReceiving: false).Receives);
        Assert.False(second.IsCompleted);
        var last = Bring(deliveries, link, 1);
        Assert.Same(last[0], await second.WaitAsync(Limit, TestContext.Current.CancellationToken));
    }

    /// <summary>A handler that has been turned away meanwhile is told again.</summary>
    [Fact]
    public async Task What_still_lies_ready_when_it_is_held_no_longer_is_taken_up()
    {
        using var deliveries = NewDeliveries(4, new FakeTimeProvider());
        var link = Open(deliveries);
        deliveries.Hold(true);
        Assert.True(deliveries.IsHeld.IsCancellationRequested);
        var brought = Bring(deliveries, link, 1);
        // It looks at once, and finds that it may not.
        var waiting = deliveries.TakeUpAsync(TestContext.Current.CancellationToken).AsTask();
        Assert.False(waiting.IsCompleted);
        deliveries.Hold(false);
        Assert.False(deliveries.IsHeld.IsCancellationRequested);
        Assert.Same(brought[0], await waiting.WaitAsync(Limit, TestContext.Current.CancellationToken));
        // What it puts back, another takes up.
        deliveries.PutBack(brought);
        Assert.Same(
            brought[0],
            await deliveries.TakeUpAsync(TestContext.Current.CancellationToken).AsTask()
                .WaitAsync(Limit, TestContext.Current.CancellationToken));
        deliveries.Close(link);
    }

    /// <summary>Timers take no more than 49 days.</summary>
    [Fact]
    public async Task What_waits_for_months_comes_then_and_keeps_nothing_else_from_coming()
    {
        var clock = new FakeTimeProvider();
        using var deliveries = NewDeliveries(4, clock);
        var link = deliveries.Open(new LinkAccount { HoldsDelays = true, Settler = null! });
        foreach (var days in new[] { 90, 100 })
        {
            Bring(deliveries, link, 1);
            var taken = await deliveries.TakeUpAsync(TestContext.Current.CancellationToken);
            taken.Settle(new Outcome.Modified(TimeSpan.FromDays(days), "the dock is dry"));
            deliveries.Handled(TimeSpan.Zero, 1);
        }
        var began = clock.GetUtcNow();
        for (var due = 1; due <= 2; due++)
        {
            var next = deliveries.TakeUpAsync(TestContext.Current.CancellationToken).AsTask();
            for (var days = 0; !next.IsCompleted && days < 10_000; days++)
            {
                clock.Advance(TimeSpan.FromDays(1));
                // Whoever was woken arms the next alarm.
                await Task.WhenAny(next, Task.Delay(1, TestContext.Current.CancellationToken));
            }
            await next.WaitAsync(Limit, TestContext.Current.CancellationToken);
            Assert.True(clock.GetUtcNow() - began >= TimeSpan.FromDays(80 + (10 * due)));
        }
    }

    /// <summary>A clock of tests runs what waits for it, which may wait for what another thread has in hand.</summary>
    [Fact]
    public async Task The_clock_is_asked_outside_of_the_lock()
    {
        var clock = new AskingClock();
        using var deliveries = NewDeliveries(4, clock);
        var link = Open(deliveries);
        clock.Asked = () => Assert.True(
            Task.Run(() => deliveries.Now).Wait(TimeSpan.FromSeconds(10)), "the lock is held while the clock is asked");
        var brought = Bring(deliveries, link, 4);
        Assert.Same(brought[0], await deliveries.TakeUpAsync(TestContext.Current.CancellationToken));
        deliveries.Doubt(brought[0], new Doubt("tide", Outcome.Accepted, Outcome.Released));
        deliveries.Spare("tide");
        deliveries.Handled(TimeSpan.FromSeconds(1), 1);
        deliveries.Pause(TimeSpan.FromMinutes(1));
        deliveries.Stuck(1);
        _ = (deliveries.Next(link, false), deliveries.Changed(link, false));
        deliveries.Told(link);
        deliveries.Stop(link);
        deliveries.Lose(link);
        Assert.InRange(clock.Times, 11, 30);
    }

    private sealed class AskingClock : TimeProvider
    {
        public Action? Asked { get; set; }

        public int Times { get; private set; }

        public override long GetTimestamp()
        {
            if (Asked is null) return base.GetTimestamp();
            Times++;
            Asked();
            return base.GetTimestamp();
        }
    }

    private sealed class Nothing() : HandOver(default, 1, 0);
}
