using System.Diagnostics.Metrics;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Telemetry;

/// <summary>
/// How full queues and outboxes are, for whoever listens: read every ten seconds, and only while somebody does. What is
/// unknown is not told, and never 0.
/// </summary>
internal sealed class Gauges : BackgroundService
{
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(10), LongestRest = TimeSpan.FromMinutes(1),
        StaleAfter = TimeSpan.FromMinutes(1);

    private readonly Meter meter = new(CourierTelemetry.Name);
    private readonly ICourierStatus status;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    private readonly List<Instrument> all = [];
    private volatile Look? last;

    public Gauges(ICourierStatus status, TimeProvider clock, ILogger<Gauges> logger)
    {
        (this.status, this.clock, this.logger) = (status, clock, logger);
        OfQueues("gentle_courier.queue.ready", "{message}", "Events that may be handed over now.", q => q.Ready);
        OfQueues("gentle_courier.queue.in_hand", "{message}", "Events that a worker has.", q => q.InHand);
        OfQueues("gentle_courier.queue.scheduled", "{message}", "Events that come later.", q => q.Scheduled);
        OfQueues("gentle_courier.queue.dead_letters", "{message}", "Events set aside.", q => q.DeadLetters);
        OfQueues("gentle_courier.queue.lag", "s", "The age of the oldest event that is not handled.",
            q => q.OldestAge?.TotalSeconds ?? (q.Waiting == 0 ? 0 : null));
        OfOutboxes("gentle_courier.outbox.waiting", "{message}", "Events not yet relayed.", o => o.Waiting);
        OfOutboxes("gentle_courier.outbox.held", "{message}", "Of these, those that are tried again.", o => o.Held);
        OfOutboxes("gentle_courier.outbox.refused", "{message}", "Events that the broker refused.", o => o.Refused);
        OfOutboxes("gentle_courier.outbox.age", "s", "The age of the oldest event that waits.",
            o => o.OldestAge?.TotalSeconds ?? (o.Waiting == 0 ? 0 : null));
    }

    public override void Dispose()
    {
        meter.Dispose();
        base.Dispose();
    }

    protected override Task ExecuteAsync(CancellationToken stoppingToken) =>
        new Loop("Reading figures for meters", Every, LongestRest, clock, logger).RunAsync(LookAsync, stoppingToken);

    private async Task LookAsync(CancellationToken stopping)
    {
        if (all.Exists(i => i.Enabled))
        {
            using var late = new CancellationTokenSource(StaleAfter, clock);
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(late.Token, stopping);
            last = new(await status.ReadAsync(limit.Token).ConfigureAwait(false), clock.GetTimestamp());
        }
        await Task.Delay(Every, clock, stopping).ConfigureAwait(false);
    }

    private sealed record Look(CourierStatus Status, long At);

    private void OfQueues(string name, string unit, string description, Func<QueueFigures, double?> read) =>
        Add(name, unit, description, status => status.Broker?.Queues.Select(
            q => (read(q), new KeyValuePair<string, object?>("messaging.destination.name", q.Queue))) ?? []);

    private void OfOutboxes(string name, string unit, string description, Func<OutboxFigures, double?> read) =>
        Add(name, unit, description, status => status.Stores.Select(
            s => (read(s.Outbox), new KeyValuePair<string, object?>("gentle_courier.store", s.Store))));

    private void Add(string name, string unit, string description,
        Func<CourierStatus, IEnumerable<(double? Value, KeyValuePair<string, object?> Tag)>> read) =>
        all.Add(meter.CreateObservableGauge(name, () => Known(read), unit, description));

    private IEnumerable<Measurement<double>> Known(
        Func<CourierStatus, IEnumerable<(double? Value, KeyValuePair<string, object?> Tag)>> read) =>
        last is not { } looked || clock.GetElapsedTime(looked.At) > StaleAfter ? []
            : read(looked.Status).Where(v => v.Value is not null)
                .Select(v => new Measurement<double>(v.Value!.Value, v.Tag));
}
