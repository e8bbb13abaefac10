using GentleCourier.Hosting;
using GentleCourier.Receiving.Handling;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Diagnostics.HealthChecks;

namespace GentleCourier;

/// <summary>
/// Whether a restart of this process would help: unhealthy where all places for handlers of a queue are taken by such
/// as ran over their time limit and ignore their cancellation. It asks no store and no broker: when those are away, a
/// restart helps nobody. Register it with
/// <c>AddHealthChecks().AddCheck&lt;CourierLiveHealthCheck&gt;("courier-live")</c>.
/// </summary>
public sealed class CourierLiveHealthCheck : IHealthCheck
{
    private readonly ReceiverHost? receivers;

    internal CourierLiveHealthCheck(IServiceProvider services) =>
        receivers = services.GetRequiredService<CourierSetup>().Bindings.Count == 0 ? null
            : services.GetRequiredService<ReceiverHost>();

    /// <inheritdoc/>
    public Task<HealthCheckResult> CheckHealthAsync(
        HealthCheckContext context, CancellationToken cancellationToken = default)
    {
        var stuck = receivers?.Workers.Where(w => w.IsStuck).Select(w => w.Figures.Queue).ToList() ?? [];
        return Task.FromResult(stuck.Count == 0 ? HealthCheckResult.Healthy() : new HealthCheckResult(
            context?.Registration.FailureStatus ?? HealthStatus.Unhealthy,
            $"nothing more is handled of queue {string.Join(", ", stuck)}: each handler ran over its time limit and "
            + "ignores its cancellation; restart this process, and have the handlers heed their token"));
    }
}
