using System.Diagnostics;
using System.Diagnostics.Metrics;
using GentleCourier.Engines;
using GentleCourier.Publishing;
using GentleCourier.Receiving.Handling;
using GentleCourier.Watching;

namespace GentleCourier.Telemetry;

/// <summary>
/// What is counted and measured as events go by. Source of the names that begin with <c>messaging.</c>: OpenTelemetry's
/// semantic conventions for messaging metrics; times are in seconds. Where nobody listens, nothing is done.
/// </summary>
internal static class Meters
{
    private static readonly Meter Meter = new(CourierTelemetry.Name);

    private static readonly Counter<long> Sent = Meter.CreateCounter<long>(
        "messaging.client.sent.messages", "{message}", "Events that a relay tried to give to the broker.");

    private static readonly Counter<long> Consumed = Meter.CreateCounter<long>(
        "messaging.client.consumed.messages", "{message}", "Deliveries that workers got.");

    /// <summary>The bounds that the conventions advise, in seconds.</summary>
    private static readonly InstrumentAdvice<double> Durations = new()
    {
        HistogramBucketBoundaries = [0.005, 0.01, 0.025, 0.05, 0.075, 0.1, 0.25, 0.5, 0.75, 1, 2.5, 5, 7.5, 10],
    };

    /// <summary>An event may wait for milliseconds, or for a night.</summary>
    private static readonly InstrumentAdvice<double> Ages = new()
    {
        HistogramBucketBoundaries =
            [0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30, 60, 300, 900, 3_600, 14_400, 86_400],
    };

    private static readonly Histogram<double> Operations = Meter.CreateHistogram(
        "messaging.client.operation.duration", "s",
        "How long an exchange with the broker took: sending, receiving (until something came), settling.",
        tags: null, Durations);

    private static readonly Histogram<double> Processing = Meter.CreateHistogram(
        "messaging.process.duration", "s", "How long handling took, one attempt each.", tags: null, Durations);

    private static readonly Histogram<double> Waits = Meter.CreateHistogram(
        "gentle_courier.event.wait", "s", "How old an event was, by its own time, when its first attempt began.",
        tags: null, Ages);

    private static readonly Counter<long> Settled = Meter.CreateCounter<long>(
        "gentle_courier.event.settled", "{message}", "Deliveries by what became of them.");

    private static readonly Counter<long> OtherDataCopies = Meter.CreateCounter<long>(
        "gentle_courier.inbox.other_data", "{message}",
        "Copies with other data than what was handled under their source and id.");

    /// <summary>A relay has tried to give a batch to the broker.</summary>
    public static void Send(IReadOnlyList<OutboxRow> rows, TimeSpan took, Exception? failure = null)
    {
        if (Operations.Enabled) Exchange("send", Spans.TypeOf(rows), took, failure);
    }

    /// <summary>What became of events that were sent, each to where its type goes.</summary>
    public static void Send(IReadOnlyList<Answer> answers)
    {
        if (!Sent.Enabled) return;
        foreach (var alike in answers.GroupBy(a => (a.Row.Event.Type, a.Result.Fate)))
        {
            var tags = Tags("send", alike.Key.Type);
            if (alike.Key.Fate == PublishFate.Deferred) tags.Add("error.type", "held");
            if (alike.Key.Fate == PublishFate.Refused) tags.Add("error.type", "refused");
            Sent.Add(alike.Count(), tags);
        }
    }

    /// <summary>So many events of each type were moved within one database.</summary>
    public static void Send(IReadOnlyDictionary<string, int> moved)
    {
        if (!Sent.Enabled) return;
        foreach (var (type, count) in moved) Sent.Add(count, Tags("send", type));
    }

    /// <summary>An exchange with the broker has ended.</summary>
    /// <param name="operation"><c>send</c>, <c>receive</c> or <c>settle</c>.</param>
    /// <param name="destination">The queue, or the type that all events have; null where there are several.</param>
    /// <param name="took">How long it took.</param>
    /// <param name="failure">Why it failed; null where it did not.</param>
    public static void Exchange(string operation, string? destination, TimeSpan took, Exception? failure = null)
    {
        if (!Operations.Enabled) return;
        var tags = Tags(operation, destination);
        if (failure is not null) tags.Add("error.type", Words.NameOf(failure));
        Operations.Record(took.TotalSeconds, tags);
    }

    public static void Receive(string queue, int deliveries)
    {
        if (Consumed.Enabled) Consumed.Add(deliveries, Tags("receive", queue));
    }

    public static void OtherData(string queue)
    {
        if (OtherDataCopies.Enabled) OtherDataCopies.Add(1, Tags("process", queue));
    }

    public static void Process(string queue, List<ReadDelivery> deliveries, TimeSpan took, Exception? failure)
    {
        if (!Processing.Enabled) return;
        var tags = Tags("process", queue);
        if (failure is not null) tags.Add("error.type", Words.NameOf(failure));
        foreach (var delivery in deliveries) Processing.Record(took.TotalSeconds / deliveries.Count, tags);
    }

    public static void Begin(string queue, List<ReadDelivery> deliveries, TimeProvider clock)
    {
        if (!Waits.Enabled) return;
        foreach (var delivery in deliveries)
            if (delivery is { Attempt: 1, Event.Time: { } time })
                Waits.Record(Math.Max(0, (clock.GetUtcNow() - time).TotalSeconds), Tags("process", queue));
    }

    public static void Settle(string queue, IReadOnlyList<Settlement> settlements)
    {
        if (!Settled.Enabled) return;
        foreach (var outcome in settlements.GroupBy(s => NameOf(s.Outcome)))
        {
            var tags = Tags("settle", queue);
            tags.Add("gentle_courier.outcome", outcome.Key);
            Settled.Add(outcome.Count(), tags);
        }
    }

    private static string NameOf(Outcome outcome) => outcome switch
    {
        Outcome.AcceptedOutcome => "accepted",
        Outcome.ReleasedOutcome => "released",
        Outcome.Modified => "comes_again",
        _ => "set_aside",
    };

    private static TagList Tags(string operation, string? destination)
    {
        var tags = new TagList
        {
            { "messaging.system", "gentle_courier" },
            { "messaging.operation.name", operation },
        };
        if (destination is not null) tags.Add("messaging.destination.name", destination);
        return tags;
    }
}
