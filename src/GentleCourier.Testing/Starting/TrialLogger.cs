using Microsoft.Extensions.Logging;

namespace GentleCourier.Testing;

/// <summary>Brings what a service logs to the trial. Thread-safe.</summary>
internal sealed class TrialLogger(string service, Sight sight) : ILoggerProvider
{
    public ILogger CreateLogger(string categoryName) => new Lines(service, sight, categoryName);

    public void Dispose()
    {
    }

    private sealed class Lines(string service, Sight sight, string category) : ILogger
    {
        public IDisposable? BeginScope<TState>(TState state) where TState : notnull => null;

        public bool IsEnabled(LogLevel logLevel) =>
            logLevel != LogLevel.None && (logLevel >= LogLevel.Warning || sight.IsLogging);

        public void Log<TState>(LogLevel logLevel, EventId eventId, TState state, Exception? exception,
            Func<TState, Exception?, string> formatter)
        {
            if (!IsEnabled(logLevel)) return;
            var line = $"{service}: {logLevel}: {category}: {formatter(state, exception)}"
                + (exception is null ? "" : $" ({Words.InLine(exception)})");
            if (logLevel >= LogLevel.Warning) sight.Warned(line);
            sight.Log(line);
        }
    }
}
