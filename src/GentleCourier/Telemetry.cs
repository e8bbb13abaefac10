using System.Diagnostics;
using GentleCourier.Receiving.Handling;

namespace GentleCourier;

/// <summary>Traces, named by OpenTelemetry's messaging conventions.</summary>
internal static class Telemetry
{
    public static readonly ActivitySource Source = new("GentleCourier");

    /// <summary>
    /// The span in which deliveries are handled: a child of the operation that published the event, or, for a batch,
    /// linked to those that published its events.
    /// </summary>
    public static Span StartProcessing(string queue, IReadOnlyList<ReadDelivery> deliveries)
    {
        if (!Source.HasListeners()) return default;
        try
        {
            return new Span(Start(queue, deliveries));
        }
        catch (Exception)
        {
            return default;
        }
    }

    private static Activity? Start(string queue, IReadOnlyList<ReadDelivery> deliveries)
    {
        var single = deliveries.Count == 1;
        var contexts = deliveries.Select(d => ContextOf(d.Event));
        var activity = single
            ? Source.StartActivity($"process {queue}", ActivityKind.Consumer, contexts.First())
            : Source.StartActivity($"process {queue}", ActivityKind.Consumer, default(ActivityContext),
                links: contexts.Select(c => new ActivityLink(c)));
        activity?.SetTag("messaging.system", "gentle_courier");
        activity?.SetTag("messaging.operation.type", "process");
        activity?.SetTag("messaging.destination.name", queue);
        if (single) activity?.SetTag("messaging.message.id", deliveries[0].Event.Id);
        else activity?.SetTag("messaging.batch.message_count", deliveries.Count);
        return activity;
    }

    private static ActivityContext ContextOf(Event @event) =>
        ActivityContext.TryParse(@event.TraceParent, @event.TraceState, isRemote: true, out var context) ? context
            : default;

    /// <summary>
    /// A span, or none. Listeners are others' code: what they throw must not become an event's failure.
    /// </summary>
    internal readonly struct Span(Activity? activity) : IDisposable
    {
        public void Failed(Exception e) => activity?.SetStatus(ActivityStatusCode.Error, Words.Of(e));

        public void Dispose()
        {
            try
            {
                activity?.Dispose();
            }
            catch (Exception)
            {
                // It is over all the same.
            }
        }
    }
}
