using GentleCourier.Engines;
using GentleCourier.Hosting;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Diagnostics.HealthChecks;

namespace GentleCourier;

/// <summary>
/// Whether this process can do its work: unhealthy while its store cannot be reached, or its queues are waited for;
/// degraded, with the reasons, while its broker cannot be reached (the outbox takes what is published), or something is
/// wrong with its outbox or its queues. Where the broker's tables are not made yet, a process that only publishes is
/// healthy, and says so. It asks both, by the statements of <see cref="ICourierStatus"/>. Register it
/// with <c>AddHealthChecks().AddCheck&lt;CourierReadyHealthCheck&gt;("courier-ready")</c>.
/// </summary>
public sealed class CourierReadyHealthCheck : IHealthCheck
{
    private readonly Preparation preparation;
    private readonly ICourierStatus status;
    private readonly IStorePort? store;
    private readonly HashSet<string> mine;

    internal CourierReadyHealthCheck(IServiceProvider services)
    {
        preparation = services.GetRequiredService<Preparation>();
        status = services.GetRequiredService<ICourierStatus>();
        store = services.FindStore();
        mine = services.GetRequiredService<CourierSetup>().Bindings.Select(b => b.Queue)
            .ToHashSet(StringComparer.Ordinal);
        foreach (var name in new[] { store?.DisplayName, services.FindBroker()?.DisplayName })
            if (name is not null) mine.Add(name);
    }

    /// <inheritdoc/>
    public async Task<HealthCheckResult> CheckHealthAsync(
        HealthCheckContext context, CancellationToken cancellationToken = default)
    {
        var read = await status.ReadAsync(cancellationToken).ConfigureAwait(false);
        var wrong = read.Findings.Where(f => f.IsWrong && mine.Contains(f.Subject)).ToList();
        var data = wrong.GroupBy(f => f.Code).ToDictionary(
            g => g.Key, g => (object)string.Join("; ", g.Select(f => f.What)), StringComparer.Ordinal);
        var failed = context?.Registration.FailureStatus ?? HealthStatus.Unhealthy;
        if (read.Unreachable.FirstOrDefault(f => f.Subject == store?.DisplayName) is { } away)
            return new(failed, away.What, data: data);
        if (preparation.Note is { } note && wrong.TrueForAll(f => f.Code is "broker-unreachable" or "outbox-stopped"))
            return HealthCheckResult.Healthy(note);
        if (!preparation.IsDone) return new(failed, preparation.WaitsFor, data: data);
        return wrong.Count == 0 ? HealthCheckResult.Healthy()
            : HealthCheckResult.Degraded(string.Join("; ", wrong.Select(f => $"{f.Subject}: {f.What}")), data: data);
    }
}
