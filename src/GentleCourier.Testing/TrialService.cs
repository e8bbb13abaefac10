using GentleCourier.Events;
using GentleCourier.Hosting;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Testing;

/// <summary>A service that takes part in a <see cref="Trial"/>. Thread-safe.</summary>
public sealed class TrialService
{
    private ContractCodec? codec;

    internal TrialService(string name) => Name = name;

    /// <summary>Its name, as the test has given it.</summary>
    public string Name { get; }

    /// <summary>
    /// Its services, as its program has registered them: <see cref="IOutbox"/>, <see cref="IStore"/>, a context.
    /// </summary>
    /// <exception cref="InvalidOperationException">Its host has not been started.</exception>
    public IServiceProvider Services => Provider ?? throw new InvalidOperationException(
        $"service '{Name}' of the trial has not been started");

    /// <summary>Whether it has been stopped.</summary>
    public bool IsStopped { get; internal set; }

    internal IServiceProvider? Provider { get; set; }

    internal TaskCompletionSource Started { get; } = new(TaskCreationOptions.RunContinuationsAsynchronously);

    internal bool Runs => Started.Task.IsCompletedSuccessfully && !IsStopped;

    internal IHost? Host { get; set; }

    /// <summary>Ends when its program has; null where the trial has no hand in that.</summary>
    internal Task? Ended { get; set; }

    /// <summary>What its host runs beside the library and the framework, which may set timers.</summary>
    internal IReadOnlyList<Type> OthersHosted => [.. Services.GetServices<IHostedService>()
        .Where(s => s is not CourierWork && s.GetType().Assembly != typeof(TrialService).Assembly
            && s.GetType().Namespace?.StartsWith("Microsoft.", StringComparison.Ordinal) != true)
        .Select(s => s.GetType())];

    /// <summary>Known for longer than its services are.</summary>
    internal ContractCodec Codec => codec ??= Services.GetRequiredService<ContractCodec>();

    /// <summary>Stops its host, and waits for it. Whoever has made it disposes of it.</summary>
    internal async Task StopAsync(CancellationToken cancellationToken)
    {
        if (Host is { } host)
        {
            if (Ended is null) await host.StopAsync(cancellationToken).ConfigureAwait(false);
            else host.Services.GetRequiredService<IHostApplicationLifetime>().StopApplication();
        }
        if (Ended is { } ended)
            await ended.WaitAsync(cancellationToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        else
            (Host as IDisposable)?.Dispose();
    }
}
