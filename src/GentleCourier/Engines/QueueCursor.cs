using System.Globalization;

namespace GentleCourier.Engines;

/// <summary>
/// Where in a queue of a database an event was, so that it can be read on from there: those that are in hand or may be,
/// by their number, and then those with a time, by that.
/// </summary>
/// <param name="IsTimed">Whether it is one of the latter.</param>
/// <param name="At">Its time.</param>
/// <param name="Copy">Its number.</param>
internal readonly record struct QueueCursor(bool IsTimed, DateTimeOffset At, long Copy)
{
    private const char Timed = 't', Numbered = 'n';

    /// <summary>Before all.</summary>
    public static QueueCursor Start { get; } = new(false, DateTimeOffset.UnixEpoch, long.MinValue);

    /// <summary>Behind which number the former go on.</summary>
    public long AfterCopy => IsTimed ? long.MaxValue : Copy;

    /// <summary>Behind which time and number the latter do.</summary>
    public (DateTimeOffset At, long Copy) AfterTimed => IsTimed ? (At, Copy) : (Start.At, Start.Copy);

    /// <exception cref="ArgumentException">It was not written by this.</exception>
    public static QueueCursor Parse(string? text)
    {
        if (text is null) return Start;
        if (Read(text) is { } place && place.ToString() == text) return place;
        throw new ArgumentException(
            $"'{text}' is no place in a queue; take the one of an event that was read before", nameof(text));
    }

    private static QueueCursor? Read(string text)
    {
        var parts = text.Length < 2 ? [] : text[1..].Split('.');
        if (parts.Length is < 1 or > 2 || Number(parts[^1]) is not { } copy) return null;
        if (parts.Length == 1) return new(false, Start.At, copy);
        return Number(parts[0]) is { } ticks && ticks >= 0 && ticks <= DateTimeOffset.MaxValue.UtcTicks
            ? new(true, new DateTimeOffset(ticks, TimeSpan.Zero), copy) : null;
    }

    public override string ToString() => IsTimed
        ? string.Create(CultureInfo.InvariantCulture, $"{Timed}{At.UtcTicks}.{Copy}")
        : string.Create(CultureInfo.InvariantCulture, $"{Numbered}{Copy}");

    private static long? Number(string text) =>
        long.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var number) ? number
            : null;
}
