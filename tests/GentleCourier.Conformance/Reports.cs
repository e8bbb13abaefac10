using System.Collections.Concurrent;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Conformance;

/// <summary>Keeps what is logged, for a test to read.</summary>
public sealed class Reports : ILoggerFactory, ILogger
{
    public ConcurrentQueue<string> Lines { get; } = [];

    public ConcurrentQueue<Exception> Errors { get; } = [];

    /// <summary>What the scopes held in which lines were logged, such as <c>Queue</c>.</summary>
    public ConcurrentQueue<string> Scopes { get; } = [];

    /// <summary>How much would have been written down.</summary>
    public int Size => Lines.Sum(line => line.Length) + Errors.Sum(e => e.ToString().Length);

    public ILogger CreateLogger(string categoryName) => this;

    public void AddProvider(ILoggerProvider provider)
    {
    }

    public IDisposable? BeginScope<TState>(TState state) where TState : notnull
    {
        Scopes.Enqueue(state.ToString()!);
        return null;
    }

    public bool IsEnabled(LogLevel logLevel) => true;

    public void Log<TState>(LogLevel logLevel, EventId eventId, TState state, Exception? exception,
        Func<TState, Exception?, string> formatter)
    {
        Lines.Enqueue(formatter(state, exception));
        if (exception is not null) Errors.Enqueue(exception);
    }

    public void Dispose()
    {
    }
}
