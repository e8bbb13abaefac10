using System.Collections.Concurrent;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Conformance;

/// <summary>The last lines that the hosts of a test have logged, for whoever asks why it stands still.</summary>
internal sealed class Diary : ILoggerProvider
{
    private const int MostLines = 100;

    private readonly ConcurrentQueue<string> lines = new();

    public override string ToString() => string.Join('\n', lines);

    public ILogger CreateLogger(string categoryName) => new Writer(this, categoryName);

    public void Dispose()
    {
        // It is read after the hosts are gone, too.
    }

    private void Add(string line)
    {
        lines.Enqueue(line);
        if (lines.Count > MostLines) lines.TryDequeue(out _);
    }

    private sealed class Writer(Diary diary, string category) : ILogger
    {
        public IDisposable? BeginScope<TState>(TState state) where TState : notnull => null;

        public bool IsEnabled(LogLevel logLevel) => logLevel >= LogLevel.Information;

        public void Log<TState>(LogLevel logLevel, EventId eventId, TState state, Exception? exception,
            Func<TState, Exception?, string> formatter) => diary.Add(
            $"{DateTime.UtcNow:HH:mm:ss.fff} {logLevel} {category[(category.LastIndexOf('.') + 1)..]}: "
            + $"{formatter(state, exception)}{(exception is null ? "" : $" ({exception.Message})")}");
    }
}
