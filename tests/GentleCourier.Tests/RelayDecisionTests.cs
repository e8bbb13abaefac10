using CsCheck;
using GentleCourier.Engines;
using GentleCourier.Publishing;
using Microsoft.Extensions.Logging.Abstractions;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Tests;

public sealed class RelayDecisionTests
{
    private static readonly Gen<(OutboxRow Row, PublishResult Result)> Answered = Gen.Select(
        Gen.Int[1, 1000], Gen.Bool, Gen.Int[0, 5], Gen.Int[0, 2].Select(i => i == 0 ? null : i == 1 ? "a" : "b"),
            Gen.Int[0, 2],
        (number, held, attempts, key, fate) => (
            new OutboxRow(held ? -number : number, attempts, new EncodedEvent($"{number}", "t", key, default)),
            fate == 0 ? PublishResult.Taken : fate == 1 ? PublishResult.Deferred("later")
                : PublishResult.Refused("never")));

    /// <summary>
    /// Every row has one end: it is forgotten, or held, or waits where it is, behind another with its key.
    /// </summary>
    [Fact]
    public void Each_row_is_forgotten_or_held_or_waits_behind_one_with_its_key() =>
        Answered.Array[0, 30].Sample(batch =>
    {
        var marks = Marking.Of(
            [.. batch.Select(b => b.Row)], [.. batch.Select(b => b.Result)], attempts =>
                TimeSpan.FromSeconds(attempts));
        Assert.Equal(
            batch.Where(b => b.Result.Fate == PublishFate.Taken).Select(b => b.Row.Row),
                marks.Forgotten.Select(r => r.Row));
        Assert.Equal(marks.Keys.Select(k => k.Key).Distinct(), marks.Keys.Select(k => k.Key));
        Assert.Empty(marks.Freed.Intersect(marks.Keys.Select(k => k.Key)));

        foreach (var key in batch.Select(b => b.Row.Event.PartitionKey).OfType<string>().Distinct())
        {
            var deferred = batch
                .Where(b => b.Row.Event.PartitionKey == key && b.Result.Fate == PublishFate.Deferred).ToList();
            var until = marks.Keys.Where(k => k.Key == key).ToList();
            Assert.Equal(deferred.Count > 0 ? 1 : 0, until.Count);
            // The oldest decides, and it alone has been tried.
            if (deferred.Count > 0) Assert.Equal(TimeSpan.FromSeconds(deferred[0].Row.Attempts + 1), until[0].After);
            Assert.Equal(
                deferred.Skip(1).Count(b => !b.Row.IsHeld), marks.Held.Count(h => h.Reason == Marking.Follows
                    && deferred.Skip(1).Any(d => d.Row.Row == h.Row)));
        }
    });

    [Fact]
    public void A_rest_never_follows_from_waiting() => Gen.Double[0, 1e6].Sample(ms =>
    {
        var rest = Pace.Rest(TimeSpan.FromMilliseconds(ms));
        Assert.InRange(rest, TimeSpan.Zero, Pace.LongestRest);
        if (ms <= 1) Assert.True(rest + TimeSpan.FromMilliseconds(ms) >= Pace.Gathering - TimeSpan.FromTicks(2));
    });

    [Fact]
    public async Task A_loop_survives_whatever_its_step_and_its_logger_throw_and_says_how_it_does()
    {
        var clock = new FakeTimeProvider();
        using var ending = new CancellationTokenSource();
        var steps = 0;
        var loop = new Loop(
            "the tide", TimeSpan.FromSeconds(1), TimeSpan.FromSeconds(8), clock, new BrokenLogger())
        { Failed = (_, _) => throw new InvalidOperationException("no pen") };
        var seen = new TaskCompletionSource();
        var running = loop.RunAsync(
            async stop =>
            {
                steps++;
                if (steps <= 3) throw new BrokenException();
                seen.TrySetResult();
                await Task.Delay(Timeout.Infinite, stop);
            },
            ending.Token);
        while (!seen.Task.IsCompleted)
        {
            if (loop.Failures > 0) Assert.Equal(typeof(BrokenException).FullName, loop.LastError);
            clock.Advance(TimeSpan.FromSeconds(8));
            await Task.Yield();
        }
        Assert.Equal(4, steps);
        Assert.Equal(3, loop.Failures);
        await ending.CancelAsync();
        await running;
    }

    private sealed class BrokenException : Exception
    {
        public override string Message => throw new InvalidOperationException("not even that");
    }

    private sealed class BrokenLogger : Microsoft.Extensions.Logging.ILogger
    {
        public IDisposable? BeginScope<TState>(TState state) where TState : notnull =>
            NullLogger.Instance.BeginScope(state);

        public bool IsEnabled(Microsoft.Extensions.Logging.LogLevel logLevel) => true;

        public void Log<TState>(
            Microsoft.Extensions.Logging.LogLevel logLevel, Microsoft.Extensions.Logging.EventId eventId, TState state,
            Exception? exception, Func<TState, Exception?, string> formatter) => throw new IOException("disk full");
    }
}
