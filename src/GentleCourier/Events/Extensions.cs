using System.Text;
using System.Text.Json;

namespace GentleCourier.Events;

/// <summary>
/// Extension attributes of an event. Source: CloudEvents 1.0.2, "Naming Conventions" and "Type System": names are
/// lower-case letters and digits, and what is written as a text means the same as what is written as its type.
/// </summary>
internal static class Extensions
{
    private const int Most = 50, LongestName = 20;

    // The specification's own, and the extensions that have properties of their own here.
    private static readonly HashSet<string> Known = new(StringComparer.Ordinal)
    {
        "specversion", "id", "source", "type", "time", "subject", "datacontenttype", "dataschema", "data",
        "partitionkey", "traceparent", "tracestate", "correlationid", "causationid",
    };

    /// <summary>What is wrong with those of a publisher; null where nothing is.</summary>
    public static string? ProblemOf(IReadOnlyDictionary<string, string> extensions)
    {
        if (extensions.Count > Most) return $"has {extensions.Count} extensions, more than {Most}";
        foreach (var (name, value) in extensions)
        {
            if (!IsName(name))
                return $"has an extension '{name}': a name has 1 to {LongestName} lower-case letters and digits";
            if (Known.Contains(name)) return $"has an extension '{name}', which is an attribute with a meaning already";
            if (value is null) return $"extension '{name}' is null";
            if (TextRule.ProblemOf(value, TextRule.LongestText) is { } problem) return $"extension '{name}' {problem}";
        }
        return null;
    }

    /// <summary>
    /// Keeps an attribute that nobody knows, with its value as text; the reader stands on its name, and on the end of
    /// its value afterwards. What no attribute may be, such as an object, is passed over.
    /// </summary>
    public static void Keep(ref Utf8JsonReader reader, ref Dictionary<string, string>? into)
    {
        var name = reader.ValueIsEscaped ? null : reader.GetString();
        var value = Read(ref reader);
        if (name is null || value is null || Known.Contains(name)) return;
        if ((into ??= new(StringComparer.Ordinal)).Count < Most) into[name] = value;
    }

    /// <summary>
    /// The value of an attribute as text; null where no attribute may be such, which is nobody's fault here.
    /// </summary>
    public static string? Read(ref Utf8JsonReader reader)
    {
        reader.Read();
        JsonRule.Check(ref reader);
        return reader.TokenType switch
        {
            JsonTokenType.String => reader.GetString(),
            JsonTokenType.True => "true",
            JsonTokenType.False => "false",
            // As it was written: there are senders of larger numbers than CloudEvents has.
            JsonTokenType.Number => Encoding.ASCII.GetString(reader.ValueSpan),
            _ => null,
        };
    }

    private static bool IsName(string name) =>
        name is { Length: > 0 and <= LongestName } && name.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c));
}
