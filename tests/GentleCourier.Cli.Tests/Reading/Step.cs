using System.Text.RegularExpressions;

namespace GentleCourier.Cli.Tests.Reading;

/// <summary>What a document has its reader do, in the order of the text.</summary>
internal abstract partial record Step
{
    /// <summary>Commands that are typed into a terminal.</summary>
    public sealed record Type(string Commands) : Step;

    /// <summary>A file that is written.</summary>
    public sealed record Write(string File, string Text) : Step;

    /// <summary>Lines that one of the terminals is said to show.</summary>
    public sealed record Read(string[] Lines) : Step;

    // A file's name stands before its text, and other code is for reading only.
    [GeneratedRegex(
        @"(?:^`(?<file>[\w.-]+/[\w./-]+)`[^\n`]*:\n\n)?^```(?<kind>\w+)\n(?<text>.*?)^```",
        RegexOptions.Singleline | RegexOptions.Multiline, 1000)]
    private static partial Regex Blocks { get; }

    /// <summary>The steps of a part of a document.</summary>
    /// <param name="document">Its text.</param>
    /// <param name="from">The heading with which it begins.</param>
    /// <param name="to">The heading before which it ends; null: with the document.</param>
    public static List<Step> In(string document, string from, string? to)
    {
        var start = document.IndexOf(from, StringComparison.Ordinal);
        var end = to is null ? document.Length : document.IndexOf(to, start, StringComparison.Ordinal);
        Assert.True(start >= 0 && end > start, $"there is no {from} before {to}");
        return [.. Blocks.Matches(document[start..end]).Select(Of).OfType<Step>()];
    }

    private static Step? Of(Match block) => (block.Groups["kind"].Value, block.Groups["file"]) switch
    {
        (_, { Success: true, Value: var file }) => new Write(file, block.Groups["text"].Value),
        ("sh", _) => new Type(block.Groups["text"].Value),
        ("text", _) => new Read(block.Groups["text"].Value.Trim().Split('\n')),
        _ => null,
    };
}
