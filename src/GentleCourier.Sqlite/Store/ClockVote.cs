namespace GentleCourier.Sqlite;

/// <summary>
/// Which clock a store goes by: the one that more than half of all say, each relay having one voice, and the store
/// itself one for what was agreed before, or two where that was set by hand. Pure computation.
/// </summary>
internal static class ClockVote
{
    /// <summary>Clocks that are this near to each other are the same, in milliseconds.</summary>
    public const long Tolerance = 2_000;

    public static bool AreNear(long one, long other) => Math.Abs(one - other) <= Tolerance;

    /// <returns>How far that clock is ahead of the file's time, in milliseconds; null: no majority.</returns>
    public static long? Of(IReadOnlyList<RelayClock> relays, AgreedClock agreed)
    {
        var voices = relays.Select(relay => relay.Ahead).Concat(Voices(relays, agreed)).Order().ToList();
        if (voices.Count == 0) return agreed.Ahead;
        // Whatever more than half of them are near to, the one in the middle is.
        var middle = voices[(voices.Count - 1) / 2];
        var near = voices.FindAll(voice => AreNear(voice, middle));
        if (2 * near.Count <= voices.Count) return null;
        var said = relays.Select(relay => relay.Ahead).Where(near.Contains).Order().ToList();
        var winner = said.Count == 0 ? middle : said[(said.Count - 1) / 2];
        // While the host was off, time has not gone back.
        return agreed is { Standing: Standing.NotYet, Least: { } least } && winner < least - Tolerance ? null : winner;
    }

    /// <summary>
    /// What was agreed has no voice before it is, nor once the last that held to it was seen being set: then the host's
    /// clock was.
    /// </summary>
    private static IEnumerable<long> Voices(IReadOnlyList<RelayClock> relays, AgreedClock agreed)
    {
        if (agreed.Standing == Standing.NotYet) return [];
        var hasGone = relays.Any(relay => relay.HasMoved) && !relays.Any(relay => AreNear(relay.Ahead, agreed.Ahead));
        return Enumerable.Repeat(agreed.Ahead, hasGone ? 0 : agreed.Standing == Standing.ByHand ? 2 : 1);
    }
}

/// <summary>The clock of a relay.</summary>
/// <param name="Relay">Whose it is.</param>
/// <param name="Ahead">How far it is ahead of the file's time, in milliseconds.</param>
/// <param name="HasMoved">Whether it was set away from what had been agreed.</param>
internal readonly record struct RelayClock(string Relay, long Ahead, bool HasMoved);

/// <summary>The clock that a store goes by.</summary>
/// <param name="Ahead">How far it is ahead of the file's time, in milliseconds.</param>
/// <param name="Least">How far it was, at the latest moment before the host was started; null: nobody knows.</param>
/// <param name="Standing">Who has said so.</param>
/// <param name="Doubted">Since when no majority agrees, by the file's time; null: one does.</param>
internal readonly record struct AgreedClock(long Ahead, long? Least, Standing Standing, long? Doubted);

/// <summary>Who has said which clock a store goes by; the numbers are in the file.</summary>
internal enum Standing
{
    /// <summary>Nobody yet, since the host was started: it is what the first to look at the file has.</summary>
    NotYet,

    /// <summary>A majority of the clocks.</summary>
    Agreed,

    /// <summary>Somebody, by hand.</summary>
    ByHand,
}
