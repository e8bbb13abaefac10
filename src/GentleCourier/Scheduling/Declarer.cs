using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Hosting;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Scheduling;

/// <summary>
/// Keeps the store's schedules as this process declares them, and says that it is still there to declare them. A kill
/// between the two leaves a declaration that is new once more, and changes nothing then.
/// </summary>
internal sealed partial class Declarer(CourierSetup setup, IStorePort store, ContractCodec codec,
    Preparation preparation, CourierClock clock, ILogger<Declarer> logger) : BackgroundService
{
    private static readonly TimeSpan Every = Declaring.Alive / 3;
    private static readonly TimeSpan FirstRest = TimeSpan.FromMilliseconds(200), LongestRest = TimeSpan.FromSeconds(30);

    private readonly ILogger logger = new SafeLogger(logger);
    private List<ScheduleRow>? rows;

    public override Task StartAsync(CancellationToken cancellationToken)
    {
        // What cannot be published fails the start.
        rows = [.. setup.Schedules.Select(d => d.RowOf(codec))];
        return base.StartAsync(cancellationToken);
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        if (!await preparation.IsDoneAsync(stoppingToken).ConfigureAwait(false)) return;
        await new Loop($"Declaring the schedules of {store.DisplayName}", FirstRest, LongestRest, clock.Time, logger)
            .RunAsync(DeclareAsync, stoppingToken).ConfigureAwait(false);
    }

    private async Task DeclareAsync(CancellationToken stopping)
    {
        var kept = await store.Schedules.ReadAsync(dueOnly: false, null, stopping).ConfigureAwait(false);
        var seen = await store.Schedules.ReadDeclarationsAsync(stopping).ConfigureAwait(false);
        foreach (var mine in rows!)
        {
            var old = kept.Rows.FirstOrDefault(r => r.Name == mine.Name);
            if (!Declaring.TakesOver(mine, old, seen)) continue;
            var (row, events) = Declaring.Row(mine, old, kept.Now, Random.Shared.NextDouble());
            // Where another was first, the next round sees what there is.
            if (!await store.Schedules.SaveAsync(row, events, null, stopping).ConfigureAwait(false)) return;
            LogDeclared(logger, row.Name, ScheduleRule.Parse(row.Rule), row.Next);
        }
        FaultPoint.Pass(FaultPoint.DeclaredNotSeen);
        await store.Schedules.MarkAsync([.. rows.Select(r => (r.Name, r.Declaration))], stopping).ConfigureAwait(false);
        await Task.Delay(Every, clock.Aside, stopping).ConfigureAwait(false);
    }

    [LoggerMessage(501, LogLevel.Information, "Schedule {Name} is declared anew: {Rule}; it fires next at {Next}")]
    private static partial void LogDeclared(ILogger logger, string name, object rule, DateTimeOffset? next);
}
