using GentleCourier;
using GentleCourier.Watching;
using Spectre.Console;

namespace FerryLine.Demo;

/// <summary>Prints the account for people.</summary>
internal static class Report
{
    /// <returns>The exit code: 0 if all agrees.</returns>
    public static int Print(Account account, Expectation expected)
    {
        AnsiConsole.WriteLine();
        AnsiConsole.MarkupLine(
            "[bold]ledger[/]: published = handled + waiting + dead letters; a copy of an event for each queue");
        var table = new Table().Border(TableBorder.Simple);
        table.AddColumn(new TableColumn("queue").NoWrap().Padding(0, 0));
        foreach (var title in new[] { "published", "handled", "waiting", "dead", "missing", "unexpected", "absorbed" })
            table.AddColumn(new TableColumn(title).RightAligned().NoWrap().Padding(1, 0));
        foreach (var (queue, ledger) in account.Queues) AddRow(table, queue, ledger);
        AddRow(table, "all queues", Ledger.Sum(account.Queues));
        AnsiConsole.Write(table);

        AnsiConsole.MarkupLine("[bold]dead letters[/], by reason:");
        var reasons = new Grid().AddColumn(new GridColumn().RightAligned().NoWrap())
            .AddColumn(new GridColumn().NoWrap()).AddColumn();
        // As in the ledger, an event counts once, also where a gate had sent it twice.
        foreach (var group in account.DeadLetters
            .DistinctBy(d => (d.Queue, CourierEvent.Read(d.Json).Id))
            .GroupBy(d => (d.Queue, d.Reason)).OrderBy(g => g.Key))
            reasons.AddRow($" {group.Count()}", group.Key.Queue, Markup.Escape(group.Key.Reason));
        AnsiConsole.Write(reasons);

        AnsiConsole.WriteLine();
        AnsiConsole.MarkupLine(
            $" takings      {Euros(account.TakingsCents),12}   expected {Euros(expected.TakingsCents),12}   "
            + $"{Verdict(account.TakingsCents == expected.TakingsCents)}");
        if (account.ClosedCents is { } closed)
            AnsiConsole.MarkupLine(
                $" closed with  {Euros(closed),12}   expected {Euros(expected.TakingsCents),12}   "
                + $"{Verdict(closed == expected.TakingsCents)}");
        AnsiConsole.MarkupLine(
            $" on board     {account.HeadCounts.Values.Sum(),12:N0}   expected "
            + $"{expected.HeadCounts.Values.Sum(),12:N0}   "
            + $"{Verdict(AreAlike(account.HeadCounts, expected.HeadCounts))}, sailing by sailing");
        AnsiConsole.MarkupLine(
            $" nearly full  {account.CrowdedSailings.Count,12:N0}   expected {expected.CrowdedSailings.Count,12:N0}   "
            + $"{Verdict(account.CrowdedSailings.SequenceEqual(expected.CrowdedSailings))}");

        var disagreements = account.DisagreementsWith(expected).ToList();
        foreach (var line in disagreements) AnsiConsole.MarkupLine($"[red]wrong:[/] {Markup.Escape(line)}");
        AnsiConsole.MarkupLine(disagreements.Count == 0
            ? $"[green]The ledger balances:[/] {account.Events:N0} events, none lost, none acted on twice."
            : $"[red]The ledger does not balance:[/] {disagreements.Count} findings above.");
        return disagreements.Count == 0 ? 0 : 1;
    }

    private static bool AreAlike(IReadOnlyDictionary<string, int> some, IReadOnlyDictionary<string, int> others) =>
        some.Count == others.Count && !some.Except(others).Any();

    private static void AddRow(Table table, string queue, Ledger ledger) => table.AddRow(
        queue, $"{ledger.Published:N0}", $"{ledger.Handled:N0}", $"{ledger.Waiting:N0}", $"{ledger.DeadLetters:N0}",
        $"{ledger.Missing.Count:N0}", $"{ledger.Unexpected.Count:N0}", $"{ledger.DuplicatesAbsorbed:N0}");

    private static string Euros(int cents) => $"{cents / 100:N0}.{cents % 100:00}";

    private static string Verdict(bool agrees) => agrees ? "[green]agrees[/]" : "[red]differs[/]";
}
