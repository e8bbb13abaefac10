namespace GentleCourier;

/// <summary>What OpenTelemetry is told to listen to.</summary>
public static class CourierTelemetry
{
    /// <summary>
    /// The name of the library's <c>ActivitySource</c> and of its <c>Meter</c>: <c>AddSource(CourierTelemetry.Name)</c>
    /// and <c>AddMeter(CourierTelemetry.Name)</c>.
    /// </summary>
    public const string Name = "GentleCourier";
}
