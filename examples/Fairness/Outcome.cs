namespace Fairness;

/// <summary>What one run came to.</summary>
/// <param name="Prefetch">The limit that the workers had.</param>
/// <param name="Bars">Each delivery.</param>
/// <param name="Workers">How many workers there were.</param>
internal sealed record Outcome(string Prefetch, IReadOnlyList<Bar> Bars, int Workers)
{
    /// <summary>Until the last notice was composed.</summary>
    public TimeSpan Total => Bars.Max(b => b.Ended);

    /// <summary>
    /// No assignment can end sooner: all workers busy without a pause to the end, or one with the longest piece of
    /// work. The work is what it took in this run, so that a slow machine counts for both.
    /// </summary>
    public TimeSpan Best
    {
        get
        {
            var work = Bars.Select(b => (b.Ended - b.Begun).Ticks).ToList();
            return TimeSpan.FromTicks(Math.Max(work.Sum() / Workers, work.Max()));
        }
    }

    /// <summary>By how much of the best it took longer.</summary>
    public double Distance => (Total / Best) - 1;

    public int HandledBy(int worker) => Bars.Count(b => b.Worker == worker);

    /// <summary>For how long a worker had nothing to do before the last one was done.</summary>
    public TimeSpan IdleOf(int worker) =>
        Total - TimeSpan.FromTicks(Bars.Where(b => b.Worker == worker).Sum(b => (b.Ended - b.Begun).Ticks));
}
