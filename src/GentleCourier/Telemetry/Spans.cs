using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Receiving.Handling;

namespace GentleCourier.Telemetry;

/// <summary>
/// What is done with events, as spans. Source of names and attributes: OpenTelemetry's semantic conventions for
/// messaging spans.
/// </summary>
internal static class Spans
{
    // A span with more is read by nobody, and refused by some.
    private const int MostLinks = 128;

    private static readonly ActivitySource Source = new(CourierTelemetry.Name);

    /// <summary>An event is made for the outbox: what is done with it later goes back to this span.</summary>
    public static Span Create(Func<string> type) =>
        Source.HasListeners() ? Start("create", ActivityKind.Producer, type(), default, null) : default;

    /// <summary>A relay sends events from its outbox to the broker.</summary>
    public static Span Send(IReadOnlyList<OutboxRow> rows)
    {
        if (!Source.HasListeners()) return default;
        return Start("send", ActivityKind.Client, TypeOf(rows), default, LinksTo(rows.Select(r => r.Event.Json)),
            rows.Count);
    }

    /// <summary>The type that all events have; null where they have several.</summary>
    public static string? TypeOf(IReadOnlyList<OutboxRow> rows) =>
        rows.All(r => r.Event.Type == rows[0].Event.Type) ? rows[0].Event.Type : null;

    /// <summary>A worker has got deliveries.</summary>
    public static Span Receive(string queue, IReadOnlyList<HandOver> deliveries) => !Source.HasListeners() ? default
        : Start("receive", ActivityKind.Client, queue, default, LinksTo(deliveries.Select(d => d.Json)),
            deliveries.Count);

    /// <summary>
    /// Deliveries are handled: a child of the span that made the event, or, for a batch, linked to those that made its
    /// events.
    /// </summary>
    public static Span Process(string queue, IReadOnlyList<ReadDelivery> deliveries)
    {
        if (!Source.HasListeners()) return default;
        if (deliveries is not [var only])
            return Start("process", ActivityKind.Consumer, queue, default,
                deliveries.Take(MostLinks).Select(d => ContextOf(d.Event)).Where(IsKnown).Select(Link),
                deliveries.Count);
        var span = Start("process", ActivityKind.Consumer, queue, ContextOf(only.Event), null);
        span.Tag("messaging.message.id", only.Event.Id);
        if (only.Attempt > 1) span.Tag("gentle_courier.attempt", only.Attempt);
        if (only.Event.CorrelationId is { } correlation) span.Tag("messaging.message.conversation_id", correlation);
        return span;
    }

    /// <summary>A worker says what became of deliveries, and fetches more along with it.</summary>
    public static Span Settle(string queue, IReadOnlyList<Settlement> settlements) =>
        !Source.HasListeners() || settlements.Count == 0 ? default
            : Start("settle", ActivityKind.Client, queue, default,
                LinksTo(settlements.Select(s => s.Delivery.Json)), settlements.Count);

    private static Span Start(string operation, ActivityKind kind, string? destination, ActivityContext parent,
        IEnumerable<ActivityLink>? links, int? count = null)
    {
        try
        {
            var activity = Source.StartActivity(
                destination is null ? operation : $"{operation} {destination}", kind, parent, links: links);
            if (activity is null) return default;
            activity.SetTag("messaging.system", "gentle_courier");
            activity.SetTag("messaging.operation.name", operation);
            activity.SetTag("messaging.operation.type", operation);
            if (destination is not null) activity.SetTag("messaging.destination.name", destination);
            if (count is { } events) activity.SetTag("messaging.batch.message_count", events);
            return new Span(activity);
        }
        catch (Exception)
        {
            return default;
        }
    }

    private static IEnumerable<ActivityLink> LinksTo(IEnumerable<ReadOnlyMemory<byte>> events) =>
        events.Take(MostLinks).Select(ContextOf).Where(IsKnown).Select(Link);

    private static ActivityContext ContextOf(ReadOnlyMemory<byte> json)
    {
        try
        {
            return ContextOf(CourierEvent.Read(json));
        }
        catch (UnreadableEventException)
        {
            return default;
        }
    }

    private static ActivityContext ContextOf(CourierEvent @event) =>
        ActivityContext.TryParse(@event.TraceParent, @event.TraceState, isRemote: true, out var context) ? context
            : default;

    private static bool IsKnown(ActivityContext context) => context != default;

    private static ActivityLink Link(ActivityContext context) => new(context);
}
