using System.Runtime.CompilerServices;

namespace GentleCourier.Cli;

/// <summary>Reads the lines of a file that was exported, and finds what each is of. It may be read again.</summary>
internal sealed class LineReader(string file, KeptWords words, KeptEvents kept)
{
    private const int Shown = 20;

    private readonly List<string> problems = [], gone = [];
    private bool hasRead;

    /// <summary>How many lines cannot be taken, though what they are of may still be there.</summary>
    public int Problems => problems.Count;

    /// <summary>What can be taken.</summary>
    public async IAsyncEnumerable<KeptReturn> ReadAsync([EnumeratorCancellation] CancellationToken cancel)
    {
        var (number, seen) = (0, new Dictionary<string, int>(StringComparer.Ordinal));
        await foreach (var text in File.ReadLinesAsync(file, cancel))
        {
            number++;
            if (string.IsNullOrWhiteSpace(text)) continue;
            if (await FindAsync(text, number, seen, cancel) is { } found) yield return found;
        }
        hasRead = true;
    }

    /// <summary>Tells of the lines that cannot be taken.</summary>
    public async Task ReportAsync()
    {
        await TellAsync(problems, "not taken");
        await TellAsync(gone, $"the {words.One} has gone: sent on or discarded before");
    }

    private async Task<KeptReturn?> FindAsync(
        string text, int number, Dictionary<string, int> seen, CancellationToken cancel)
    {
        try
        {
            var line = EventLines.Read(text, words);
            if (!seen.TryAdd(line.Id, number))
                throw new FormatException($"{words.One} {line.Id} is in line {seen[line.Id]} already");
            if (await kept.FindAsync(line.Id, cancel) is not { } found)
            {
                if (!hasRead) gone.Add($"line {number}: {words.One} {line.Id}");
                return null;
            }
            return line.IsOf(found) ? new KeptReturn(found, line.RepairOf(found)) : throw new FormatException(
                $"{words.One} {line.Id} of {kept.DisplayName} is another one; was the file exported there?");
        }
        catch (FormatException e)
        {
            if (!hasRead) problems.Add($"line {number}: {Plain.Line(e.Message)}");
            return null;
        }
    }

    private static async Task TellAsync(List<string> lines, string what)
    {
        if (lines.Count == 0) return;
        var count = lines.Count == 1 ? "1 line" : $"{Plain.Number(lines.Count)} lines";
        await Console.Error.WriteLineAsync($"{count}: {what}");
        foreach (var line in lines.Take(Shown)) await Console.Error.WriteLineAsync($"  {line}");
        if (lines.Count > Shown) await Console.Error.WriteLineAsync($"  … and {lines.Count - Shown} more");
    }
}
