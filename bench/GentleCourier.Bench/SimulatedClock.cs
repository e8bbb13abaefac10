using System.Globalization;

namespace GentleCourier.Bench;

/// <summary>A clock that goes as the measurement says.</summary>
internal sealed class SimulatedClock : TimeProvider
{
    private long ticks = DateTimeOffset.Parse("2031-06-14T06:00:00Z", CultureInfo.InvariantCulture).UtcTicks;

    public void Advance(TimeSpan time) => Interlocked.Add(ref ticks, time.Ticks);

    public override DateTimeOffset GetUtcNow() => new(Interlocked.Read(ref ticks), TimeSpan.Zero);
}
