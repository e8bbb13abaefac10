using GentleCourier.Engines;

namespace GentleCourier.Tests;

/// <summary>What a worker does while its broker is away, or its links are lost.</summary>
public sealed class OutageTests
{
    private static readonly TimeSpan Step = TimeSpan.FromMilliseconds(250), Second = TimeSpan.FromSeconds(1);

    /// <summary>
    /// What is tried comes more and more rarely, and is said more rarely still; the step that waits for it ends well
    /// each time, which is no success, and neither is a link that could be opened.
    /// </summary>
    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task While_nothing_works_it_is_tried_and_said_more_and_more_rarely(bool linksAreLost)
    {
        var tries = 0;
        var isAway = true;
        var broker = new ScriptedBroker
        {
            Open = _ => new ScriptedLink
            {
                Before = () =>
                {
                    Interlocked.Increment(ref tries);
                    if (!Volatile.Read(ref isAway)) return;
                    throw linksAreLost ? new LinkLostException("away") : new CourierException("away");
                },
            },
        };
        await using var worker = new ScriptedWorker(broker, (_, _) => Task.CompletedTask);
        worker.Start();
        await worker.UntilAsync(() => tries >= 7, Step);
        var passed = await worker.UntilAsync(() => tries >= 37, Step);
        // Each rest is half of five seconds at the least.
        Assert.True(passed >= 29 * 2.5 * Second, $"30 tries in {passed}");
        Assert.InRange(worker.Lines.Count, 1, 1 + 6);
        Assert.Equal("away", worker.Figures.Problem);

        // It is back, and nothing comes: whoever waits for that for long enough has not been refused.
        Volatile.Write(ref isAway, false);
        await worker.UntilAsync(() => worker.Figures.Problem is null, Second);
        Assert.Single(worker.Lines, line => line.Contains("works again", StringComparison.Ordinal));
    }

    /// <summary>However long it is away: what is said grows by a line when the time has doubled.</summary>
    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task Hours_without_a_broker_are_told_of_in_a_few_lines(bool linksAreLost)
    {
        var tries = 0;
        var broker = new ScriptedBroker
        {
            Open = _ => new ScriptedLink
            {
                Before = () =>
                {
                    Interlocked.Increment(ref tries);
                    throw linksAreLost ? new LinkLostException("away") : new CourierException("away");
                },
            },
        };
        await using var worker = new ScriptedWorker(broker, (_, _) => Task.CompletedTask);
        worker.Start();
        var end = worker.Clock.GetUtcNow() + TimeSpan.FromHours(2);
        // No rest is longer than that.
        var passed = await worker.UntilAsync(() => worker.Clock.GetUtcNow() >= end, 5 * Second);
        // Of the first few the rests are shorter.
        Assert.InRange(tries, 100, 20 + (int)(passed / (2.5 * Second)));
        Assert.InRange(worker.Lines.Count, 1, 1 + (int)Math.Log2(tries) + 1);
    }

    /// <summary>
    /// Without an inbox, what a handler of this process still has is not begun a second time when it comes again by
    /// another link: also where it had come to its handler after a wait of its own.
    /// </summary>
    [Fact]
    public async Task What_has_waited_and_is_being_handled_is_not_handled_beside_itself_when_its_link_is_lost()
    {
        var links = new[] { new ScriptedLink(), new ScriptedLink() };
        var (calls, atOnce, most) = (0, 0, 0);
        var gate = new TaskCompletionSource();
        var broker = new ScriptedBroker { Open = number => links[number - 1] };
        await using var worker = new ScriptedWorker(broker, async (_, _) =>
        {
            if (Interlocked.Increment(ref calls) == 1) throw new RetryException(10 * Second, "the tide is low");
            most = Math.Max(most, Interlocked.Increment(ref atOnce));
            await gate.Task;
            Interlocked.Decrement(ref atOnce);
        });
        worker.Start();
        links[0].Give(worker.Deliver(1, "tide"));
        await worker.UntilAsync(() => calls == 2, Second);

        links[0].Lose();
        await worker.UntilAsync(() => broker.Opened == 2, Step);
        links[1].Give(worker.Deliver(1, "tide"));
        links[1].Give(worker.Deliver(2, "another"));
        // Once the other is being handled the first has been looked at.
        await worker.UntilAsync(() => atOnce == 2 || calls > 3);
        gate.SetResult();
        await worker.UntilAsync(() => links[1].Settled.Count == 2);
        Assert.All(links[1].Settled, s => Assert.Equal(Outcome.Accepted, s.Outcome));
        Assert.Equal((3, 2), (calls, most));
    }

    /// <summary>What waits for its next attempt when its link is lost is begun when it comes again.</summary>
    [Fact]
    public async Task What_waits_when_its_link_is_lost_is_handled_when_it_comes_again()
    {
        var links = new[] { new ScriptedLink(), new ScriptedLink() };
        var calls = 0;
        var broker = new ScriptedBroker { Open = number => links[number - 1] };
        await using var worker = new ScriptedWorker(broker, (_, _) => Interlocked.Increment(ref calls) == 1
            ? throw new RetryException(TimeSpan.FromHours(1), "the tide is low") : Task.CompletedTask);
        worker.Start();
        links[0].Give(worker.Deliver(1, "tide"));
        await worker.UntilAsync(() => calls == 1 && worker.Figures.InHand == 0);
        links[0].Lose();
        await worker.UntilAsync(() => broker.Opened == 2, Step);
        links[1].Give(worker.Deliver(1, "tide"));
        await worker.UntilAsync(() => links[1].Settled.Count == 1);
        Assert.Equal((2, Outcome.Accepted), (calls, links[1].Settled.Single().Outcome));
    }

    /// <summary>A stop waits for what is decided by a handler that had it by an earlier link.</summary>
    [Fact]
    public async Task What_follows_a_handler_is_settled_before_the_end()
    {
        var links = new[] { new ScriptedLink(), new ScriptedLink() };
        var gate = new TaskCompletionSource();
        var calls = 0;
        var broker = new ScriptedBroker { Open = number => links[number - 1] };
        await using var worker = new ScriptedWorker(broker, async (delivery, _) =>
        {
            Interlocked.Increment(ref calls);
            if (delivery.Event.Id == "tide") await gate.Task;
        });
        worker.Start();
        links[0].Give(worker.Deliver(1, "tide"));
        await worker.UntilAsync(() => calls == 1);
        links[0].Lose();
        await worker.UntilAsync(() => broker.Opened == 2, Step);
        links[1].Give(worker.Deliver(1, "tide"));
        links[1].Give(worker.Deliver(2, "another"));
        await worker.UntilAsync(() => calls == 2);
        var stopped = worker.StopAsync();
        // Handlers are given up, and what they had is waited for a little longer.
        await worker.UntilAsync(() => worker.Lines.Any(
            line => line.Contains("ignore their cancellation", StringComparison.Ordinal)), Step);
        gate.SetResult();
        await stopped;
        Assert.Equal(2, calls);
        Assert.Equal(["another", "tide"], links[1].Settled.Where(s => s.Outcome == Outcome.Accepted)
            .Select(s => CourierEvent.Read(s.Delivery.Json).Id).Order());
    }
}
