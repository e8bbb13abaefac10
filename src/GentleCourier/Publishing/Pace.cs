namespace GentleCourier.Publishing;

/// <summary>
/// How long a relay rests between two batches that were not full: each costs commits, and relaying every event by
/// itself would slow down those who publish them. Pure computation.
/// </summary>
internal static class Pace
{
    /// <summary>
    /// Under load a batch is gathered for this long at the least; after a pause the first event leaves at once.
    /// </summary>
    public static readonly TimeSpan Gathering = TimeSpan.FromMilliseconds(5);

    /// <summary>
    /// A rest is no longer, however long the batch took: that may have been waiting, for a lock or a busy neighbour,
    /// and whoever has waited has rested.
    /// </summary>
    public static readonly TimeSpan LongestRest = TimeSpan.FromMilliseconds(100);

    private const int Restraint = 4;

    /// <summary>The rest after a batch.</summary>
    /// <param name="took">How long the batch took, from its reading to its marks.</param>
    public static TimeSpan Rest(TimeSpan took)
    {
        var rest = took * Restraint > Gathering ? took * (Restraint - 1) : Gathering - took;
        return rest < LongestRest ? rest : LongestRest;
    }
}
