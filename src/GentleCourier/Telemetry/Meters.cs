using System.Diagnostics;
using System.Diagnostics.Metrics;
using GentleCourier.Engines;
using GentleCourier.Publishing;
using GentleCourier.Receiving.Handling;

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

    private static readonly Histogram<double> Operations = Meter.CreateHistogram<double>(
        "messaging.client.operation.duration", "s", "How long a relay's sending took.");

    private static readonly Histogram<double> Processing = Meter.CreateHistogram<double>(
        "messaging.process.duration", "s", "How long handling took, one attempt each.");

    private static readonly Histogram<double> Waits = Meter.CreateHistogram<double>(
        "gentle_courier.event.wait", "s", "How old an event was, by its own time, when its first attempt began.");

    private static readonly Counter<long> Settled = Meter.CreateCounter<long>(
        "gentle_courier.event.settled", "{message}", "Deliveries by what became of them.");

    public static void Send(IReadOnlyList<Answer> answers, TimeSpan took)
    {
        if (Operations.Enabled) Operations.Record(took.TotalSeconds, Tags("send", null));
        if (!Sent.Enabled) return;
        foreach (var fate in answers.GroupBy(a => a.Result.Fate))
        {
            var tags = Tags("send", null);
            if (fate.Key == PublishFate.Deferred) tags.Add("error.type", "held");
            if (fate.Key == PublishFate.Refused) tags.Add("error.type", "refused");
            Sent.Add(fate.Count(), tags);
        }
    }

    /// <summary>So many events were moved within one database.</summary>
    public static void Send(int moved, TimeSpan took)
    {
        if (Operations.Enabled) Operations.Record(took.TotalSeconds, Tags("send", null));
        if (Sent.Enabled) Sent.Add(moved, Tags("send", null));
    }

    public static void Receive(string queue, int deliveries)
    {
        if (Consumed.Enabled) Consumed.Add(deliveries, Tags("receive", queue));
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
