using System.Buffers;
using System.Text.Json;

namespace GentleCourier.Events;

/// <summary>
/// What JSON may hold so that every reader reads the same: numbers that a reader can hold, texts that are texts, and no
/// more levels than readers go down by default.
/// </summary>
internal static class JsonRule
{
    /// <summary>Levels of an event, its own included: its data has one less.</summary>
    public const int Deepest = 64;

    private const int StackLimit = 256, LongestSafeNumber = 15;

    /// <summary>
    /// Goes through the value at which the reader stands, and leaves it at its end.
    /// </summary>
    /// <exception cref="JsonRuleException">It breaks the rule.</exception>
    public static void Check(ref Utf8JsonReader reader)
    {
        var depth = reader.CurrentDepth;
        while (true)
        {
            switch (reader.TokenType)
            {
                case JsonTokenType.Number when IsDoubtful(reader.ValueSpan):
                    if (!reader.TryGetDouble(out var number) || !double.IsFinite(number))
                        throw new JsonRuleException(reader.TokenStartIndex, "is a number larger than readers can hold");
                    break;
                case JsonTokenType.String or JsonTokenType.PropertyName when reader.ValueIsEscaped:
                    CheckEscapes(ref reader);
                    break;
                case JsonTokenType.EndObject or JsonTokenType.EndArray:
                    if (reader.CurrentDepth == depth) return;
                    break;
            }
            if (reader.CurrentDepth == depth && reader.TokenType is not (JsonTokenType.StartObject
                or JsonTokenType.StartArray or JsonTokenType.PropertyName)) return;
            if (!reader.Read()) return;
        }
    }

    /// <summary>Few digits and no exponent: no need to look closer.</summary>
    private static bool IsDoubtful(ReadOnlySpan<byte> number) =>
        number.Length > LongestSafeNumber || number.IndexOfAny((byte)'e', (byte)'E') >= 0;

    /// <summary>Half of a surrogate pair can be written as an escape, and is no text.</summary>
    private static void CheckEscapes(ref Utf8JsonReader reader)
    {
        var length = reader.ValueSpan.Length;
        char[]? rented = null;
        try
        {
            var room = length <= StackLimit ? stackalloc char[StackLimit]
                : (rented = ArrayPool<char>.Shared.Rent(length));
            reader.CopyString(room);
        }
        catch (InvalidOperationException e)
        {
            throw new JsonRuleException(reader.TokenStartIndex, "is no text: it holds half of a surrogate pair", e);
        }
        finally
        {
            if (rented is not null) ArrayPool<char>.Shared.Return(rented);
        }
    }

    /// <summary>The path of the value that begins at a place, such as <c>data.bags[0].weight</c>.</summary>
    public static string PathAt(ReadOnlySpan<byte> json, long place)
    {
        var reader = new Utf8JsonReader(json, new JsonReaderOptions { MaxDepth = Deepest + 1 });
        var levels = new Stack<(string? Name, int Index)>();
        while (reader.Read() && reader.TokenStartIndex <= place)
        {
            switch (reader.TokenType)
            {
                case JsonTokenType.PropertyName:
                    levels.Pop();
                    levels.Push((reader.TokenStartIndex == place ? "(a name)" : reader.GetString(), -1));
                    continue;
                case JsonTokenType.EndObject or JsonTokenType.EndArray:
                    levels.Pop();
                    continue;
            }
            // A value: within an array it is the next one.
            if (levels.TryPeek(out var level) && level.Name is null)
            {
                levels.Pop();
                levels.Push((null, level.Index + 1));
            }
            if (reader.TokenStartIndex == place) break;
            if (reader.TokenType == JsonTokenType.StartObject) levels.Push(("", -1));
            if (reader.TokenType == JsonTokenType.StartArray) levels.Push((null, -1));
        }
        var path = levels.Reverse().Select(l => l.Name is null ? $"[{l.Index}]" : $".{l.Name}");
        return string.Concat(path).TrimStart('.');
    }
}

/// <summary>A value breaks the rule, where it begins, and how.</summary>
internal sealed class JsonRuleException(long place, string problem, Exception? inner = null)
    : Exception(problem, inner)
{
    public long Place { get; } = place;
}
