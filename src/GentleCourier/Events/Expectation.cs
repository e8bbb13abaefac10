using System.Text.Json;
using System.Text.Json.Serialization.Metadata;

namespace GentleCourier.Events;

/// <summary>
/// What a contract expects at a path of its JSON, and what came there, in words: an error that names a class helps
/// nobody. It runs only after reading has failed.
/// </summary>
internal static class Expectation
{
    private const int Shown = 60;

    /// <summary>Such as <c>must be a number, but is the text "heavy"</c>; null where nothing can be said.</summary>
    /// <param name="type">How the contract is mapped.</param>
    /// <param name="json">The data.</param>
    /// <param name="path">The serialiser's path, <c>$.bags[0].weight</c>.</param>
    public static string? Unmet(JsonTypeInfo type, ReadOnlyMemory<byte> json, string path)
    {
        try
        {
            using var document = JsonDocument.Parse(json);
            var (at, expected) = (document.RootElement, (JsonTypeInfo?)type);
            foreach (var step in Steps(path))
            {
                at = step.Index is { } index ? at[index] : at.GetProperty(step.Name!);
                expected = Inner(expected, step.Name);
            }
            return expected is null ? $"cannot be {Came(at)}" : $"must be {Expected(expected)}, but is {Came(at)}";
        }
        catch (Exception e) when (e is JsonException or InvalidOperationException or KeyNotFoundException
            or IndexOutOfRangeException or NotSupportedException)
        {
            return null;
        }
    }

    private static JsonTypeInfo? Inner(JsonTypeInfo? type, string? name)
    {
        if (type is null) return null;
        if (name is null || type.Kind == JsonTypeInfoKind.Dictionary)
            return type.ElementType is { } element ? type.Options.GetTypeInfo(element) : null;
        return type.Properties.FirstOrDefault(p => p.Name == name) is { } property
            ? type.Options.GetTypeInfo(property.PropertyType) : null;
    }

    private static string Expected(JsonTypeInfo info)
    {
        var type = Nullable.GetUnderlyingType(info.Type) ?? info.Type;
        if (type.IsEnum) return $"one of {string.Join(", ", Enum.GetNames(type))}";
        if (info.Kind == JsonTypeInfoKind.Dictionary || info.Kind == JsonTypeInfoKind.Object) return "an object";
        if (info.Kind == JsonTypeInfoKind.Enumerable) return "a list";
        return type switch
        {
            _ when type == typeof(string) => "a text",
            _ when type == typeof(bool) => "true or false",
            _ when type == typeof(DateTime) || type == typeof(DateTimeOffset) => "a time (2031-06-14T06:00:00Z)",
            _ when type == typeof(DateOnly) => "a date (2031-06-14)",
            _ when type == typeof(TimeOnly) || type == typeof(TimeSpan) => "a time (06:00:00)",
            _ when type == typeof(Guid) => "a UUID",
            _ when type == typeof(double) || type == typeof(float) || type == typeof(decimal) => "a number",
            _ when Bounds(type) is { } bounds => $"a whole number {bounds}",
            _ => type.Name,
        };
    }

    private static string? Bounds(Type type) => Type.GetTypeCode(type) switch
    {
        TypeCode.Byte => "from 0 to 255",
        TypeCode.SByte => "from -128 to 127",
        TypeCode.Int16 => "from -32,768 to 32,767",
        TypeCode.UInt16 => "from 0 to 65,535",
        TypeCode.Int32 => "from -2,147,483,648 to 2,147,483,647",
        TypeCode.UInt32 => "from 0 to 4,294,967,295",
        TypeCode.Int64 or TypeCode.UInt64 => "of 64 bits",
        _ => null,
    };

    private static string Came(JsonElement value) => value.ValueKind switch
    {
        JsonValueKind.String => $"the text {Short(value.GetRawText())}",
        JsonValueKind.Number => $"the number {Short(value.GetRawText())}",
        JsonValueKind.Array => "a list",
        JsonValueKind.Object => "an object",
        JsonValueKind.Null => "null",
        _ => value.GetRawText(),
    };

    private static string Short(string text) => text.Length <= Shown ? text : $"{text[..Shown]}…";

    /// <summary>Names and indexes of a path: <c>$.a[0]['odd name']</c>.</summary>
    private static IEnumerable<(string? Name, int? Index)> Steps(string path)
    {
        for (var i = 1; i < path.Length;)
        {
            if (path[i] == '.')
            {
                var end = path.IndexOfAny(['.', '['], i + 1);
                if (end < 0) end = path.Length;
                yield return (path[(i + 1)..end], null);
                i = end;
            }
            else
            {
                var isName = i + 1 < path.Length && path[i + 1] == '\'';
                var end = isName ? path.IndexOf("']", i + 2, StringComparison.Ordinal) + 1 : path.IndexOf(']', i);
                if (end <= i) yield break;
                yield return isName ? (path[(i + 2)..(end - 1)], null)
                    : int.TryParse(path[(i + 1)..end], out var index) ? (null, index) : (path[(i + 1)..end], null);
                i = end + 1;
            }
        }
    }
}
