using Microsoft.Extensions.Logging;

namespace GentleCourier;

/// <summary>
/// A logger that never throws: neither a broken sink nor an exception whose own text is broken may end what is
/// reported. A report that fails with its exception is made again without it.
/// </summary>
internal sealed class SafeLogger(ILogger inner) : ILogger
{
    public IDisposable? BeginScope<TState>(TState state) where TState : notnull
    {
        try
        {
            return inner.BeginScope(state);
        }
        catch (Exception)
        {
            return null;
        }
    }

    public bool IsEnabled(LogLevel logLevel)
    {
        try
        {
            return inner.IsEnabled(logLevel);
        }
        catch (Exception)
        {
            return false;
        }
    }

    public void Log<TState>(LogLevel logLevel, EventId eventId, TState state, Exception? exception,
        Func<TState, Exception?, string> formatter)
    {
        if (TryLog(logLevel, eventId, state, exception, formatter) || exception is null) return;
        _ = TryLog(logLevel, eventId, state, null, formatter);
    }

    private bool TryLog<TState>(LogLevel logLevel, EventId eventId, TState state, Exception? exception,
        Func<TState, Exception?, string> formatter)
    {
        try
        {
            inner.Log(logLevel, eventId, state, exception, formatter);
            return true;
        }
        catch (Exception)
        {
            // There is nobody left to tell.
            return false;
        }
    }
}
