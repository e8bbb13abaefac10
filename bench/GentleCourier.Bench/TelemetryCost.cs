using System.Diagnostics;
using System.Diagnostics.Metrics;
using GentleCourier.Telemetry;

namespace GentleCourier.Bench;

/// <summary>What receiving costs while somebody listens to its meters, to its spans, or to both.</summary>
internal static class TelemetryCost
{
    private const int Rounds = 5;

    /// <summary>telemetry</summary>
    public static async Task<int> RunAsync()
    {
        (string Who, Func<IDisposable[]> Listen)[] audiences =
        [
            ("nobody", () => []), ("meters", () => [Meters()]), ("spans", () => [Spans()]),
            ("both", () => [Meters(), Spans()]),
        ];
        var rates = audiences.ToDictionary(a => a.Who, _ => new List<double>());
        for (var round = 0; round <= Rounds; round++)
        {
            foreach (var (who, listen) in audiences)
            {
                var listeners = listen();
                await using var workshop = new Workshop();
                var rate = await new ReceiveRate(1_000).OursAsync(workshop);
                foreach (var listener in listeners) listener.Dispose();
                if (round > 0) rates[who].Add(rate);
            }
        }
        var alone = Measurements.Median(rates["nobody"]);
        foreach (var (who, measured) in rates)
        {
            var median = Measurements.Median(measured);
            Console.WriteLine(
                $"{who,-8} {median,8:N0} a second, {median / alone:0.00} of the rate with nobody "
                + $"({measured.Min():N0} to {measured.Max():N0})");
        }
        return 0;
    }

    private static MeterListener Meters()
    {
        var listener = new MeterListener
        {
            InstrumentPublished = (instrument, to) =>
            {
                if (instrument.Meter.Name == CourierTelemetry.Name) to.EnableMeasurementEvents(instrument);
            },
        };
        listener.SetMeasurementEventCallback<long>(static (_, _, _, _) => { });
        listener.SetMeasurementEventCallback<double>(static (_, _, _, _) => { });
        listener.Start();
        return listener;
    }

    private static ActivityListener Spans()
    {
        var listener = new ActivityListener
        {
            ShouldListenTo = static source => source.Name == CourierTelemetry.Name,
            Sample = static (ref ActivityCreationOptions<ActivityContext> _) =>
                ActivitySamplingResult.AllDataAndRecorded,
        };
        ActivitySource.AddActivityListener(listener);
        return listener;
    }
}
