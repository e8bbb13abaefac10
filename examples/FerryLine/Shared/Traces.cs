using GentleCourier;
using OpenTelemetry.Metrics;
using OpenTelemetry.Resources;
using OpenTelemetry.Trace;

namespace FerryLine.Shared;

/// <summary>Traces and meters, on the console; elsewhere an exporter would send them to a collector.</summary>
internal static class Traces
{
    /// <summary>Where the setting <c>FerryLine:Traces</c> says so; otherwise nobody listens.</summary>
    public static void AddTraces(
        this IHostApplicationBuilder builder, string service, Action<TracerProviderBuilder>? more = null)
    {
        if (builder.Configuration["FerryLine:Traces"] is null) return;
        builder.Services.AddOpenTelemetry()
            .ConfigureResource(resource => resource.AddService(service))
            .WithTracing(traces =>
            {
                traces.AddSource(CourierTelemetry.Name).AddConsoleExporter();
                more?.Invoke(traces);
            })
            .WithMetrics(meters => meters.AddMeter(CourierTelemetry.Name).AddConsoleExporter());
    }
}
