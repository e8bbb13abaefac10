using System.Globalization;

namespace GentleCourier.Testing;

/// <summary>How times are written in what a trial says.</summary>
internal static class TrialText
{
    public static string Of(DateTimeOffset time) =>
        time.ToUniversalTime().ToString("yyyy-MM-dd HH:mm:ss.fff'Z'", CultureInfo.InvariantCulture);

    /// <summary>To the millisecond.</summary>
    public static string Of(TimeSpan time) => TimeSpan.FromMilliseconds((long)time.TotalMilliseconds)
        .ToString("g", CultureInfo.InvariantCulture);
}
