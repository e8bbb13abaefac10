using System.Text;
using System.Text.RegularExpressions;

namespace GentleCourier.Cli.Tests.Reading;

/// <summary>A piece of C# in a document.</summary>
/// <param name="Document">The document, from the root of the repository.</param>
/// <param name="Line">Where it begins.</param>
/// <param name="File">Where a reader is to put it, where it is a whole program.</param>
/// <param name="Text">The code.</param>
internal sealed partial record Snippet(string Document, int Line, string? File, string Text)
{
    [GeneratedRegex(@"(?:^`(?<file>[\w.-]+/[\w./-]+)`[^\n`]*:\n\n)?^```csharp\n(?<text>.*?)^```",
        RegexOptions.Singleline | RegexOptions.Multiline, 1000)]
    private static partial Regex Pieces { get; }

    public static List<Snippet> In(string root, string document)
    {
        var all = System.IO.File.ReadAllText(Path.Combine(root, document));
        return [.. Pieces.Matches(all).Select(m => new Snippet(
            document, all[..m.Groups["text"].Index].Count(c => c == '\n') + 1,
            m.Groups["file"] is { Success: true, Value: var file } ? file : null, m.Groups["text"].Value))];
    }

    /// <summary>
    /// A class of its own amid what it speaks of: paragraphs that declare something are members, the others one method.
    /// </summary>
    public string ToClass(string usings, int number)
    {
        var members = new StringBuilder();
        var statements = new StringBuilder();
        var line = Line;
        foreach (var paragraph in Text.Split("\n\n"))
        {
            (Declares(paragraph) ? members : statements).Append($"#line {line} \"{Document}\"\n{paragraph}\n");
            line += paragraph.Count(c => c == '\n') + 2;
        }
        return $$"""
            {{usings}}
            namespace Snippets;

            public abstract class Snippet{{number}} : Surroundings
            {
                public static async Task RunAsync()
                {
                    await Task.CompletedTask;
            {{statements}}
                }

            {{members}}
            }
            """;
    }

    private static bool Declares(string paragraph) =>
        paragraph.Split('\n').First(l => l.Length > 0 && !l.StartsWith("//", StringComparison.Ordinal)) is var first
        && (first.StartsWith('[') || first.StartsWith("public ", StringComparison.Ordinal));
}
