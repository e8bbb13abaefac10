namespace GentleCourier.Watching;

/// <summary>Names that may be misspellings of each other. Pure computation.</summary>
internal static class Similar
{
    /// <summary>
    /// Whether they differ by a slip or two: letters left out, added, changed, or swapped with their neighbours
    /// (optimal string alignment); dots, dashes and underscores do not count. Short names allow one slip.
    /// </summary>
    public static bool Are(string a, string b)
    {
        if (a == b) return false;
        var (left, right) = (Bare(a), Bare(b));
        return Distance(left, right) <= (Math.Min(left.Length, right.Length) < 6 ? 1 : 2);
    }

    /// <summary>The fewest slips that lead from one to the other.</summary>
    public static int Distance(string a, string b)
    {
        var rows = new int[a.Length + 1, b.Length + 1];
        for (var i = 0; i <= a.Length; i++) rows[i, 0] = i;
        for (var j = 0; j <= b.Length; j++) rows[0, j] = j;
        for (var i = 1; i <= a.Length; i++)
        {
            for (var j = 1; j <= b.Length; j++)
            {
                var least = Math.Min(rows[i - 1, j] + 1, rows[i, j - 1] + 1);
                least = Math.Min(least, rows[i - 1, j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1));
                if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
                    least = Math.Min(least, rows[i - 2, j - 2] + 1);
                rows[i, j] = least;
            }
        }
        return rows[a.Length, b.Length];
    }

    private static string Bare(string name) => string.Concat(name.Where(char.IsLetterOrDigit));
}
