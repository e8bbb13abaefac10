namespace GentleCourier.Bench;

/// <summary>
/// Between what the median of a ratio lies, whatever the ratios are spread like. Source: the sign test; with the k-th
/// smallest and the k-th largest of n as bounds, the median is outside with twice the probability of fewer than k heads
/// in n throws of a coin.
/// </summary>
internal readonly record struct Interval(double Median, double Low, double High)
{
    /// <summary>With at least 95 in 100, and of fewer than six with what there is.</summary>
    public static Interval Of(IEnumerable<double> ratios)
    {
        var sorted = ratios.Order().ToList();
        var n = sorted.Count;
        if (n == 0) throw new ArgumentException("no ratio is there", nameof(ratios));
        var median = (sorted[(n - 1) / 2] + sorted[n / 2]) / 2;
        // The probability of exactly k heads, and of fewer than so many.
        var (exactly, fewer, k) = (Math.Pow(0.5, n), 0.0, 0);
        while (2 * (fewer + exactly) <= 0.05)
        {
            fewer += exactly;
            exactly *= (double)(n - k) / (k + 1);
            k++;
        }
        return new(median, sorted[Math.Max(0, k - 1)], sorted[n - Math.Max(1, k)]);
    }

    /// <summary>Whether one is better than the other can be told from it.</summary>
    public bool TellsADifference => Low > 1 || High < 1;

    public override string ToString() => FormattableString.Invariant($"{Median:0.00} ({Low:0.00} to {High:0.00})");
}
