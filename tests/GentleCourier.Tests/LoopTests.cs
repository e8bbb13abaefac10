using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Tests;

public sealed class LoopTests
{
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

    [Fact]
    public void What_blocks_its_thread_is_run_again_in_the_same_way()
    {
        var (steps, rests) = (0, 0);
        var seen = new List<int>();
        var loop = new Loop("the tide", TimeSpan.FromSeconds(1), TimeSpan.FromSeconds(8), TimeProvider.System);
        loop.Run(
            () =>
            {
                if (++steps <= 3) throw new BrokenException();
                seen.Add(loop.Failures);
            },
            () => steps == 5,
            rest =>
            {
                rests++;
                Assert.InRange(rest, TimeSpan.Zero, TimeSpan.FromSeconds(8));
            });
        Assert.Equal((5, 3), (steps, rests));
        Assert.Equal([3, 0], seen);
    }

    /// <summary>A server that is away for a day must not fill the disk with saying so.</summary>
    [Fact]
    public void The_same_failure_is_reported_more_and_more_rarely_and_another_at_once()
    {
        var logger = new KeepingLogger();
        var steps = 0;
        var loop = new Loop("the tide", TimeSpan.FromSeconds(1), TimeSpan.FromSeconds(8), TimeProvider.System, logger);
        loop.Run(
            () => throw new IOException(++steps == 100 ? "high water" : "low water"), () => steps == 1000, _ => { });
        // At 1, 2, 4 … 512; the other one, and that it was the old one again.
        Assert.Equal(10 + 2, logger.Lines.Count);
        Assert.Single(logger.Lines, line => line.Contains("high water", StringComparison.Ordinal));
    }

    /// <summary>However long a rest would be, and however many rest, they go on at once; one tells of it.</summary>
    [Fact]
    public async Task Those_that_rest_from_a_server_that_cannot_be_reached_go_on_when_it_can()
    {
        var (said, ofServer) = (new KeepingLogger(), new KeepingLogger());
        var reachability = new Reachability("the harbour", ofServer);
        using var ending = new CancellationTokenSource();
        var (tries, works) = (0, 0);
        var isAway = true;
        var loops = Enumerable.Range(0, 50).Select(n => new Loop(
            $"the tide {n}", TimeSpan.FromDays(1), TimeSpan.FromDays(1), TimeProvider.System, said)).ToList();
        var running = loops.ConvertAll(loop => loop.RunAsync(
            async stop =>
            {
                Interlocked.Increment(ref tries);
                if (Volatile.Read(ref isAway))
                {
                    reachability.Lost("fog");
                    throw new CourierException("no way", new CourierException("fog") { Reachability = reachability });
                }
                Interlocked.Increment(ref works);
                await Task.Delay(Timeout.Infinite, stop);
            },
            ending.Token));
        await UntilAsync(() => loops.TrueForAll(loop => loop.LastError == "no way"));
        Assert.Equal(50, tries);
        Volatile.Write(ref isAway, false);
        reachability.Found();
        await UntilAsync(() => works == 50);
        await ending.CancelAsync();
        await Task.WhenAll(running);
        Assert.Empty(said.Lines);
        Assert.Equal(2, ofServer.Lines.Count);
    }

    [Fact]
    public void A_server_that_comes_and_goes_all_night_fills_no_log()
    {
        var logger = new KeepingLogger();
        var reachability = new Reachability("the harbour", logger);
        for (var i = 0; i < 20_000; i++)
        {
            Assert.True(reachability.Lost("fog"));
            Assert.False(reachability.Lost("fog"));
            reachability.Found();
        }
        Assert.InRange(logger.Lines.Count, 2, 30);
        // And one that stays away.
        logger.Lines.Clear();
        reachability = new Reachability("the harbour", logger);
        reachability.Lost("fog");
        for (var i = 0; i < 20_000; i++) reachability.StillAway("fog");
        reachability.Found();
        Assert.InRange(logger.Lines.Count, 3, 16);
    }

    private static async Task UntilAsync(Func<bool> condition)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(4));
        while (!condition()) await Task.Delay(1, limit.Token);
    }

    private sealed class BrokenException : Exception
    {
        public override string Message => throw new InvalidOperationException("not even that");
    }

    private sealed class KeepingLogger : ILogger
    {
        public List<string> Lines { get; } = [];

        public IDisposable? BeginScope<TState>(TState state) where TState : notnull => null;

        public bool IsEnabled(LogLevel logLevel) => true;

        public void Log<TState>(LogLevel logLevel, EventId eventId, TState state, Exception? exception,
            Func<TState, Exception?, string> formatter)
        {
            lock (Lines) Lines.Add(formatter(state, exception));
        }
    }

    private sealed class BrokenLogger : ILogger
    {
        public IDisposable? BeginScope<TState>(TState state) where TState : notnull => null;

        public bool IsEnabled(LogLevel logLevel) => true;

        public void Log<TState>(
            LogLevel logLevel, EventId eventId, TState state,
            Exception? exception, Func<TState, Exception?, string> formatter) => throw new IOException("disk full");
    }
}
