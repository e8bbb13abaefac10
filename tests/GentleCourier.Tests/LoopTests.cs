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
            Func<TState, Exception?, string> formatter) => Lines.Add(formatter(state, exception));
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
