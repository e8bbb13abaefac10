using System.Diagnostics;
using GentleCourier.Events;

namespace GentleCourier;

/// <summary>Traces, named by OpenTelemetry's messaging conventions.</summary>
internal static class Telemetry
{
    public static readonly ActivitySource Source = new("GentleCourier");

    /// <summary>The span in which a delivery is handled; a child of the operation that published the event.</summary>
    public static Activity? StartProcessing(string queue, Event @event)
    {
        if (!Source.HasListeners()) return null;
        if (!ActivityContext.TryParse(@event.TraceParent, @event.TraceState, isRemote: true, out var parent)) parent = default;
        var activity = Source.StartActivity($"process {queue}", ActivityKind.Consumer, parent);
        activity?.SetTag("messaging.system", "gentle_courier");
        activity?.SetTag("messaging.operation.type", "process");
        activity?.SetTag("messaging.destination.name", queue);
        activity?.SetTag("messaging.message.id", @event.Id);
        return activity;
    }
}
