namespace GentleCourier.Bench.Budgets;

/// <summary>What a statement costs an event: how often it runs, and for how long.</summary>
internal sealed record StatementCost(string Text, double Runs, double Time)
{
    /// <summary>How the names of counts begin that are of one statement.</summary>
    public const string Calls = "calls of ", Micros = "us of ";

    public static bool Is(string name) =>
        name.StartsWith(Calls, StringComparison.Ordinal) || name.StartsWith(Micros, StringComparison.Ordinal);

    /// <summary>The dearest first.</summary>
    public static IEnumerable<StatementCost> Of(IReadOnlyDictionary<string, double> counts) =>
        counts.Where(c => c.Key.StartsWith(Calls, StringComparison.Ordinal) && c.Value > 0)
            .Select(c => (Text: c.Key[Calls.Length..], Runs: c.Value))
            .Select(c => new StatementCost(
                string.Join(' ', c.Text.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries)), c.Runs,
                counts.GetValueOrDefault(Micros + c.Text)))
            .OrderByDescending(c => c.Time);
}
