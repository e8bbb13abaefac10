using System.Globalization;

namespace GentleCourier.Bench.Budgets;

/// <summary>A load's counts as a table: a row a count, a column a build.</summary>
internal static class BudgetTable
{
    private static readonly string[] Order = [Usage.Processor, Usage.Statements, Usage.Commands, Usage.Commits,
        "log", "events a ", Usage.Switches, Usage.Allocated, Usage.Written, "latency", BudgetRun.Rate];

    public static void Print(
        Load load, List<Build> builds, Dictionary<Build, List<Dictionary<string, double>>> runs)
    {
        Console.WriteLine($"\n{load}: an event takes");
        Console.WriteLine($"{"",-36}{string.Concat(builds.Select(b => $"{b.Name,12}"))}");
        var names = runs.Values.SelectMany(r => r).SelectMany(r => r.Keys).Where(n => !StatementCost.Is(n)).Distinct();
        foreach (var group in names.GroupBy(n => n.Split(": ")[0]).OrderBy(g => Place(g.Key)))
        {
            foreach (var name in group) Row(name, r => r.GetValueOrDefault(name, double.NaN));
            if (group.Key == Usage.Processor)
                Row($"{group.Key}: all", r => r.Where(c => c.Key.StartsWith(group.Key, StringComparison.Ordinal))
                    .Sum(c => c.Value));
        }

        void Row(string name, Func<Dictionary<string, double>, double> value) =>
            Console.WriteLine($"{name,-36}{string.Concat(builds.Select(b => $"{Text(runs[b], value),12}"))}");
    }

    /// <summary>The statements that an event takes, the dearest first.</summary>
    public static void PrintStatements(Dictionary<string, double> counts)
    {
        Console.WriteLine($"{"runs",9} {"us",9}  statement");
        foreach (var cost in StatementCost.Of(counts).Take(25))
            Console.WriteLine($"{Text(cost.Runs),9} {Text(cost.Time),9}  {Cut(cost.Text)}");
    }

    /// <summary>The median of the rounds.</summary>
    private static string Text(
        List<Dictionary<string, double>> rounds, Func<Dictionary<string, double>, double> value) =>
        Text(rounds.Select(value).Order().ElementAt(rounds.Count / 2));

    private static string Text(double value) => double.IsNaN(value) ? ""
        : value.ToString(value >= 100 ? "N0" : value >= 10 ? "N1" : "N3", CultureInfo.InvariantCulture);

    private static string Cut(string text) => text.Length <= 110 ? text : $"{text[..109]}…";

    private static int Place(string name)
    {
        var place = Array.FindIndex(Order, o => name.StartsWith(o, StringComparison.Ordinal));
        return place < 0 ? Order.Length : place;
    }
}
