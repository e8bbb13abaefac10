using GentleCourier.Housekeeping;
using GentleCourier.Publishing;
using GentleCourier.Receiving.Handling;
using GentleCourier.Scheduling;
using GentleCourier.Telemetry;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Hosting;

/// <summary>
/// All that runs in this process: prepared before any other service of the host starts, started in the order of the
/// parts and stopped in the opposite one, so that first of all nothing more is received. What the settings leave out is
/// not there.
/// </summary>
/// <remarks>
/// Nothing is asked for before the start: a setting that is wrong fails that, and the host can be stopped all the same.
/// </remarks>
internal sealed partial class CourierWork(IServiceProvider services, ILogger<CourierWork> logger)
    : IHostedLifecycleService, IDisposable
{
    private readonly SafeLogger logger = new(logger);
    private readonly List<BackgroundService> parts = [];
    private Preparation? preparation;
    private Task? stopped;
    private volatile bool isStopping;

    public Task StartingAsync(CancellationToken cancellationToken)
    {
        Arm();
        preparation = services.GetRequiredService<Preparation>();
        return preparation.StartAsync(cancellationToken);
    }

    public async Task StartAsync(CancellationToken cancellationToken)
    {
        Arm();
        var setup = services.GetRequiredService<CourierSetup>();
        parts.Add(ActivatorUtilities.CreateInstance<Gauges>(services));
        parts.Add(ActivatorUtilities.CreateInstance<Housekeeper>(services));
        if (setup.Schedules.Count > 0) parts.Add(ActivatorUtilities.CreateInstance<Declarer>(services));
        if (setup.Relays) parts.Add(ActivatorUtilities.CreateInstance<Relay>(services));
        if (setup.Bindings.Count > 0) parts.Add(services.GetRequiredService<ReceiverHost>());
        foreach (var part in parts)
        {
            await part.StartAsync(cancellationToken).ConfigureAwait(false);
            _ = WatchAsync(part);
        }
    }

    /// <summary>For all that is started from here on.</summary>
    private void Arm()
    {
        if (services.GetService<IWitness>() is { } witness) FaultPoint.Armed = witness.Passes;
    }

    /// <summary>
    /// None of the parts ends by a failure: what they do is supervised. If one does all the same, the process must not
    /// stand there without it: it ends, as the host would have it.
    /// </summary>
    private async Task WatchAsync(BackgroundService part)
    {
        try
        {
            if (part.ExecuteTask is { } running) await running.ConfigureAwait(false);
        }
        catch (Exception e) when (!isStopping)
        {
            LogFailed(logger, e, part.GetType().Name);
            services.GetService<IHostApplicationLifetime>()?.StopApplication();
        }
        catch (Exception)
        {
            // It is told to stop, and does.
        }
    }

    public Task StartedAsync(CancellationToken cancellationToken) => Task.CompletedTask;

    public Task StoppingAsync(CancellationToken cancellationToken) => Task.CompletedTask;

    /// <summary>
    /// Some hosts are told to stop twice, by whoever runs them and by whoever has made them: both wait for the same.
    /// </summary>
    public Task StopAsync(CancellationToken cancellationToken)
    {
        lock (parts) stopped ??= StopOnceAsync(cancellationToken);
        return stopped.WaitAsync(cancellationToken);
    }

    private async Task StopOnceAsync(CancellationToken cancellationToken)
    {
        isStopping = true;
        var failures = new List<Exception>();
        foreach (var part in parts.AsEnumerable().Reverse())
        {
            try
            {
                await part.StopAsync(cancellationToken).ConfigureAwait(false);
            }
            catch (Exception e)
            {
                // One that fails to stop keeps no other running.
                failures.Add(e);
            }
        }
        if (preparation is not null) await preparation.StopAsync(cancellationToken).ConfigureAwait(false);
        if (failures.Count > 0) throw new AggregateException("not everything could be stopped", failures);
    }

    public Task StoppedAsync(CancellationToken cancellationToken) => Task.CompletedTask;

    public void Dispose() => parts.ForEach(part => part.Dispose());

    [LoggerMessage(404, LogLevel.Critical,
        "{Part} has failed for good, and this process ends: restart it, and report this")]
    private static partial void LogFailed(ILogger logger, Exception problem, string part);
}
