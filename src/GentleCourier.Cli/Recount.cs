using System.CommandLine;
using System.Runtime.CompilerServices;
using GentleCourier.Engines;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>--recount</c>: what a broker has counted of its events is reckoned anew.</summary>
internal sealed class Recount
{
    // What counting takes at the least, on a machine of these years; what is said of it is about so.
    private const double RowsASecond = 2_000_000;

    // So little that nobody need be asked.
    private static readonly TimeSpan Short = TimeSpan.FromSeconds(1), Longest = TimeSpan.FromHours(1);

    private readonly Option<bool> recount = new("--recount")
    {
        Description = "Count the broker's events anew, and mend its counts.",
    };
    private readonly Option<bool> yes = new("--yes") { Description = "With --recount: do not ask." };

    public Recount AddTo(Command command)
    {
        command.Options.Add(recount);
        command.Options.Add(yes);
        return this;
    }

    /// <summary>Counts, where that was asked for; what came of it.</summary>
    public async IAsyncEnumerable<Check> DoAsync(
        ParseResult result, IBroker broker, [EnumeratorCancellation] CancellationToken cancel)
    {
        if (!result.GetValue(recount)) yield break;
        if (broker.Services.Recount is not { } counts)
        {
            yield return Check.Note("counts", $"{broker.DisplayName} counts its events by itself");
            yield break;
        }
        var rows = await counts.EstimateRowsAsync(cancel);
        var takes = TimeSpan.FromSeconds(rows / RowsASecond);
        if (takes > Short && !result.GetValue(yes) && !MayBegin(rows, takes))
        {
            yield return Check.Note("counts", "have been left as they are");
            yield break;
        }
        var wrong = await counts.RecountAsync(Longest, cancel);
        foreach (var queue in wrong)
        {
            yield return queue.Difference is { } difference
                ? Check.Note("counts", $"queue {queue.Queue} has {difference} than was counted, which is mended")
                : Check.Wrong("counts", $"queue {queue.Queue} could not be counted within {Longest.TotalHours:0} h");
        }
        if (wrong.Count == 0) yield return Check.Good("counts", $"are right, of about {Plain.Number(rows)} rows");
    }

    private static bool MayBegin(long rows, TimeSpan takes)
    {
        var would = $"about {Plain.Number(rows)} rows would be counted, which takes some {takes.TotalSeconds:0} s or "
            + "more; until then, what is deleted in that database cannot be cleared away";
        if (Console.IsInputRedirected) throw new UsageException($"{would}: say --yes");
        AnsiConsole.WriteLine(would);
        return AnsiConsole.Confirm("go on?", defaultValue: false);
    }
}
