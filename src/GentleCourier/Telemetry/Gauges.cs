using System.Collections.Concurrent;
using System.Diagnostics.Metrics;
using GentleCourier.Hosting;
using GentleCourier.Watching;
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

    // Whoever adds them up over processes counts each event once for each.
    private const string Shared = " Each process tells it of the broker or store that it has: take the maximum.";

    // One set of instruments for all hosts of a process: one that ends takes away its own figures, and nobody else's.
    private static readonly Meter Meter = new(CourierTelemetry.Name);
    private static readonly ConcurrentDictionary<Gauges, Look> Looks = new();
    private static readonly Instrument[] All =
    [
        OfQueues("gentle_courier.queue.ready", "{message}", "Events that may be handed over now.", q => q.Ready),
        OfQueues("gentle_courier.queue.in_hand", "{message}", "Events that a worker has.", q => q.InHand),
        OfQueues("gentle_courier.queue.scheduled", "{message}", "Events that come later.", q => q.Scheduled),
        OfQueues("gentle_courier.queue.dead_letters", "{message}", "Events set aside.", q => q.DeadLetters),
        OfQueues("gentle_courier.queue.oldest_age", "s", "The age of the oldest event that is not handled.",
            q => q.OldestAge?.TotalSeconds ?? (q.Waiting == 0 ? 0 : null)),
        OfOutboxes("gentle_courier.outbox.waiting", "{message}", "Events not yet relayed.", o => o.Waiting),
        OfOutboxes("gentle_courier.outbox.held", "{message}", "Of these, those that are tried again.", o => o.Held),
        OfOutboxes("gentle_courier.outbox.refused", "{message}", "Events that the broker refused.", o => o.Refused),
        OfOutboxes("gentle_courier.outbox.age", "s", "The age of the oldest event that waits.",
            o => o.OldestAge?.TotalSeconds ?? (o.Waiting == 0 ? 0 : null)),
    ];

    private readonly ICourierStatus status;
    private readonly TimeProvider clock;
    private readonly ILogger logger;

    public Gauges(ICourierStatus status, CourierClock clock, ILogger<Gauges> logger) =>
        (this.status, this.clock, this.logger) = (status, clock.Aside, logger);

    public override void Dispose()
    {
        Looks.TryRemove(this, out _);
        base.Dispose();
    }

    protected override Task ExecuteAsync(CancellationToken stoppingToken) =>
        new Loop("Reading figures for meters", Every, LongestRest, clock, logger).RunAsync(LookAsync, stoppingToken);

    private async Task LookAsync(CancellationToken stopping)
    {
        if (Array.Exists(All, i => i.Enabled))
        {
            using var late = new CancellationTokenSource(StaleAfter, clock);
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(late.Token, stopping);
            var read = await status.ReadAsync(limit.Token).ConfigureAwait(false);
            Looks[this] = new(read, clock.GetTimestamp(), clock);
        }
        await Task.Delay(Every, clock, stopping).ConfigureAwait(false);
    }

    private sealed record Look(CourierStatus Status, long At, TimeProvider Clock)
    {
        public bool IsFresh => Clock.GetElapsedTime(At) <= StaleAfter;
    }

    private static ObservableGauge<double> OfQueues(
        string name, string unit, string description, Func<QueueFigures, double?> read) =>
        Add(name, unit, description, status => status.Broker?.Queues.Select(
            q => (read(q), new KeyValuePair<string, object?>("messaging.destination.name", q.Queue))) ?? []);

    private static ObservableGauge<double> OfOutboxes(
        string name, string unit, string description, Func<OutboxFigures, double?> read) =>
        Add(name, unit, description, status => status.Stores.Select(
            s => (read(s.Outbox), new KeyValuePair<string, object?>("gentle_courier.store", s.Store))));

    private static ObservableGauge<double> Add(string name, string unit, string description,
        Func<CourierStatus, IEnumerable<(double? Value, KeyValuePair<string, object?> Tag)>> read) =>
        Meter.CreateObservableGauge(name, () => Looks.Values.Where(l => l.IsFresh).SelectMany(l => read(l.Status))
            .Where(v => v.Value is not null).Select(v => new Measurement<double>(v.Value!.Value, v.Tag)),
            unit, description + Shared);
}
