using System.CommandLine;
using System.Diagnostics;
using GentleCourier.Engines;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary>
/// Something that is done with many kept events: rehearsed, asked about, and done in steps, each of which holds
/// whatever happens afterwards.
/// </summary>
internal sealed class Work
{
    private const int Step = 200;
    private static readonly TimeSpan SaysEvery = TimeSpan.FromSeconds(1);

    private readonly Option<bool> rehearse = new("--rehearse")
    {
        Description = "Only say what would be done; change nothing.",
    };
    private readonly Option<bool> yes = new("--yes") { Description = "Do not ask." };
    private readonly Option<bool> json = Plain.JsonOption();

    public Work AddTo(Command command)
    {
        command.Options.Add(rehearse);
        command.Options.Add(yes);
        command.Options.Add(json);
        return this;
    }

    /// <summary>Whether what is done is told as JSON.</summary>
    public bool IsForScripts(ParseResult result) => result.GetValue(json);

    /// <summary>Whether it is to be done; what would be has been said.</summary>
    /// <param name="result">The command line.</param>
    /// <param name="causes">What it is about.</param>
    /// <param name="would">Such as "12 dead letters would be sent back".</param>
    /// <param name="notes">What else is to be known before, a line each.</param>
    public bool MayBegin(ParseResult result, CauseList causes, string would, IReadOnlyList<string> notes)
    {
        if (causes.Count == 0) return false;
        return MayBegin(result, causes.Count, would, notes, causes.Print,
            () => new { rehearsed = causes.Count, notes, causes = causes.ForScripts() });
    }

    /// <summary>The same of anything.</summary>
    /// <param name="result">The command line.</param>
    /// <param name="count">How many it is about.</param>
    /// <param name="would">Such as "12 events would be cancelled".</param>
    /// <param name="notes">What else is to be known before, a line each.</param>
    /// <param name="print">Shows them.</param>
    /// <param name="forScripts">And for scripts.</param>
    public bool MayBegin(ParseResult result, long count, string would, IReadOnlyList<string> notes, Action print,
        Func<object> forScripts)
    {
        var isRehearsed = result.GetValue(rehearse);
        if (result.GetValue(json))
        {
            if (isRehearsed) Plain.PrintJson(forScripts());
        }
        else if (isRehearsed || count > 1)
        {
            print();
            if (isRehearsed || !result.GetValue(yes)) AnsiConsole.WriteLine(would);
            foreach (var note in notes) Plain.WriteHanging("note: ", note);
            if (isRehearsed) AnsiConsole.WriteLine("nothing has been changed (--rehearse)");
        }
        if (isRehearsed) return false;
        if (count == 1 || result.GetValue(yes)) return true;
        if (Console.IsInputRedirected)
            throw new UsageException($"{would}: say --yes, or --rehearse to see what that means");
        return AnsiConsole.Confirm("go on?", defaultValue: false);
    }

    /// <summary>Does it step by step.</summary>
    /// <param name="events">What with.</param>
    /// <param name="act">Does one step; for each whether it took effect.</param>
    /// <param name="said">What has been done then, such as "sent back".</param>
    /// <param name="count">How many there are.</param>
    /// <param name="cancel">Ends it between two steps.</param>
    public static async Task<(long Done, List<Kept> Gone)> DoAsync(
        IAsyncEnumerable<KeptReturn> events, Func<IReadOnlyList<KeptReturn>, Task<IReadOnlyList<bool>>> act,
        string said, long count, CancellationToken cancel)
    {
        var (done, gone, step, bytes) = (0L, new List<Kept>(), new List<KeptReturn>(), 0L);
        var began = Stopwatch.GetTimestamp();
        try
        {
            await foreach (var next in events.WithCancellation(cancel))
            {
                var size = (next.Repaired ?? next.Kept.Json).Length;
                if (step.Count == Step || bytes + size > Budget.Bytes) await ActAsync();
                step.Add(next);
                bytes += size;
            }
            await ActAsync();
        }
        catch (Exception) when (done > 0)
        {
            await Console.Error.WriteLineAsync(
                $"interrupted: {Plain.Number(done)} of {Plain.Number(count)} were {said}");
            throw;
        }
        return (done, gone);

        async Task ActAsync()
        {
            cancel.ThrowIfCancellationRequested();
            if (step.Count == 0) return;
            var took = await act(step);
            done += took.Count(t => t);
            gone.AddRange(step.Where((_, i) => !took[i]).Select(e => e.Kept));
            (step, bytes) = ([], 0);
            if (Stopwatch.GetElapsedTime(began) < SaysEvery) return;
            began = Stopwatch.GetTimestamp();
            await Console.Error.WriteLineAsync($"{Plain.Number(done)} of {Plain.Number(count)} {said}");
        }
    }

    /// <summary>Says what has been done.</summary>
    public void Report(ParseResult result, KeptWords words, string said, long done, long repaired, List<Kept> gone)
    {
        if (result.GetValue(json))
        {
            Plain.PrintJson(new { done, repaired, gone = gone.Select(g => g.Id) });
            return;
        }
        AnsiConsole.WriteLine($"{words.Count(done)} {said}" + (repaired > 0 ? $", {repaired} of them repaired" : ""));
        if (gone.Count > 0)
            Plain.WriteHanging("", $"{words.Count(gone.Count)} had gone: somebody else has sent them on or discarded "
                + $"them ({string.Join(", ", gone.Take(20).Select(g => g.Id))}{(gone.Count > 20 ? ", …" : "")})");
    }
}
