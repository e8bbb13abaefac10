using System.CommandLine;
using Fairness;
using GentleCourier;
using Spectre.Console;

if (Console.IsOutputRedirected) AnsiConsole.Profile.Width = 200;

var workers = Number("--workers", 4, 2, 16, "How many workers share the queue (2 to 16).");
var notices = Number("--notices", 160, 20, 2_000, "How many notices there are to compose (20 to 2,000).");
var seed = new Option<int>("--seed")
{
    HelpName = "S", DefaultValueFactory = _ => 614, Description = "Which work it is.",
};
var plot = new Option<FileInfo>("--plot")
{
    HelpName = "FILE", DefaultValueFactory = _ => new FileInfo("fairness.png"),
    Description = "Where the picture goes, a PNG.",
};
var root = new RootCommand(
    """
    The same uneven work over the same workers, with four prefetch limits: how long it takes in all, who handled how
    many, who had nothing to do for how long, and how far that is from the best possible assignment.
    """)
{
    workers, notices, seed, plot,
};
root.SetAction(async (result, cancel) =>
{
    var work = Workload.Make(result.GetValue(notices), result.GetValue(seed));
    var count = result.GetValue(workers);
    AnsiConsole.MarkupLine(
        $"{work.Count} notices of {work.Min(w => w.WorkMilliseconds)} to {work.Max(w => w.WorkMilliseconds)} ms, "
        + $"{work.Sum(w => w.WorkMilliseconds) / 1000.0:0.0} s of work in all, over {count} workers");

    // The first run of a process compiles its code; it would count against whichever limit comes first.
    await Run.PlayAsync(1, count, [.. work.Take(2 * count)], cancel);
    var outcomes = new List<Outcome>();
    foreach (Prefetch prefetch in new Prefetch[] { 1, 8, Prefetch.Unlimited, Prefetch.SelfTuned })
        outcomes.Add(await Run.PlayAsync(prefetch, count, work, cancel));

    var table = new Table().Border(TableBorder.Simple);
    table.AddColumn("prefetch");
    table.AddColumn(new TableColumn("total").RightAligned());
    table.AddColumn(new TableColumn("best possible").RightAligned());
    table.AddColumn(new TableColumn("longer by").RightAligned());
    table.AddColumn(new TableColumn("handled by each worker").RightAligned());
    table.AddColumn(new TableColumn("idle, seconds").RightAligned());
    foreach (var outcome in outcomes)
    {
        var each = Enumerable.Range(1, count).ToList();
        table.AddRow(
            outcome.Prefetch, $"{outcome.Total.TotalSeconds:0.00} s", $"{outcome.Best.TotalSeconds:0.00} s",
                $"{outcome.Distance:0.0 %}",
            string.Join(' ', each.Select(w => $"{outcome.HandledBy(w),3}")),
                string.Join(' ', each.Select(w => $"{outcome.IdleOf(w).TotalSeconds,4:0.0}")));
    }
    AnsiConsole.Write(table);
    var file = result.GetRequiredValue(plot);
    Picture.Save(file.FullName, outcomes);
    AnsiConsole.MarkupLine($"drawn in {Markup.Escape(file.FullName)}");
});
return await root.Parse(args).InvokeAsync();

static Option<int> Number(string name, int otherwise, int least, int most, string description)
{
    var option = new Option<int>(
        name) { HelpName = "N", DefaultValueFactory = _ => otherwise, Description = description };
    option.Validators.Add(result =>
    {
        if (result.GetValueOrDefault<int>() is var value && (value < least || value > most))
            result.AddError($"{name} must be {least:N0} to {most:N0}.");
    });
    return option;
}
