namespace GentleCourier.Watching;

/// <summary>How much of something comes in a time, and how evenly. Pure computation.</summary>
/// <remarks>
/// Of counts over a time, cut into blocks of equal length: the variance between blocks holds whatever makes counts
/// uneven within them, such as bursts (the method of batch means, as in A. M. Law, "Simulation Modeling and Analysis").
/// </remarks>
/// <param name="PerSecond">How much comes, a second.</param>
/// <param name="Roughness">The variance of what comes in a second; of a Poisson process it is its rate.</param>
/// <param name="Observed">For how many seconds that was observed; infinite where it is known.</param>
/// <param name="Freedom">From how many blocks, less one.</param>
internal sealed record Flow(double PerSecond, double Roughness, double Observed, int Freedom)
{
    /// <summary>From fewer counts nothing is said.</summary>
    public const int FewestIntervals = 10;

    private const int Blocks = 20;

    /// <summary>Of something that comes at a known rate, each by itself.</summary>
    public static Flow Of(double perSecond) => new(perSecond, perSecond, double.PositiveInfinity, 1_000_000);

    /// <summary>Of what was counted; null where that is too little to say.</summary>
    /// <param name="intervals">Their length in seconds, and what came meanwhile, in order of time.</param>
    public static Flow? Of(IReadOnlyList<(double Seconds, double Count)> intervals)
    {
        if (intervals.Count < FewestIntervals) return null;
        var seconds = intervals.Sum(i => i.Seconds);
        if (seconds <= 0) return null;
        var perSecond = intervals.Sum(i => i.Count) / seconds;
        var blocks = BlocksOf(intervals, seconds / Math.Min(Blocks, intervals.Count / 2));
        var variance = blocks.Sum(b => Math.Pow(b.Count - (perSecond * b.Seconds), 2) / b.Seconds) / (blocks.Count - 1);
        return new Flow(perSecond, variance, seconds, blocks.Count - 1);
    }

    /// <summary>So many like it, each by itself.</summary>
    public Flow Times(int number) => this with { PerSecond = PerSecond * number, Roughness = Roughness * number };

    /// <summary>The variance of what comes in a time: it varies, and its rate is known only so far.</summary>
    public double VarianceOf(double seconds) => (Roughness * seconds) + (Roughness * seconds * seconds / Observed);

    private static List<(double Seconds, double Count)> BlocksOf(
        IReadOnlyList<(double Seconds, double Count)> intervals, double length)
    {
        var blocks = new List<(double, double)>();
        var (seconds, count) = (0.0, 0.0);
        foreach (var interval in intervals)
        {
            (seconds, count) = (seconds + interval.Seconds, count + interval.Count);
            if (seconds < length * 0.999) continue;
            blocks.Add((seconds, count));
            (seconds, count) = (0, 0);
        }
        if (seconds > 0) blocks.Add((seconds, count));
        return blocks;
    }
}
