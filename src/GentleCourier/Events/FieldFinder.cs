using System.Collections;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;

namespace GentleCourier.Events;

/// <summary>
/// Finds the field that an error should name. It runs only after a contract has failed to be written, so it may be
/// slow: it writes each field by itself and descends into the one at fault.
/// </summary>
internal static class FieldFinder
{
    private const int DeepestLevel = 16;

    /// <summary>
    /// Path of the first field that cannot be written, and what its own failure was; nulls where each field alone can
    /// be.
    /// </summary>
    public static (string? Field, Exception? Cause) FirstUnserialisable(object value, JsonTypeInfo type)
    {
        var path = "";
        Exception? cause = null;
        for (var level = 0; level < DeepestLevel; level++)
        {
            var next = Parts(value, type).FirstOrDefault(part => part.Failure is not null);
            if (next.Failure is null) break;
            path += path.Length == 0 || next.Name[0] == '[' ? next.Name : $".{next.Name}";
            cause = next.Failure;
            if (next.Value is null || next.Type is null) break;
            (value, type) = (next.Value, next.Type);
        }
        return path.Length == 0 ? (null, null) : (path.TrimStart('.'), cause);
    }

    /// <summary>
    /// Name of the field of <paramref name="value"/> that takes the most bytes; null where it has no fields.
    /// </summary>
    public static string? Largest(object value, JsonTypeInfo type) =>
        Parts(value, type).OrderByDescending(part => part.Bytes).Select(part => part.Name).FirstOrDefault();

    private readonly record struct Part(string Name, object? Value, JsonTypeInfo? Type, int Bytes, Exception? Failure);

    private static IEnumerable<Part> Parts(object value, JsonTypeInfo type)
    {
        if (type.Kind == JsonTypeInfoKind.Object)
        {
            foreach (var property in type.Properties)
                if (property.Get is { } get)
                    yield return Measure(
                        property.Name, () => get(value), property.PropertyType, type.Options, property.IsGetNullable);
        }
        else if (type.Kind == JsonTypeInfoKind.Enumerable && value is IEnumerable items)
        {
            var index = 0;
            foreach (var item in items)
                yield return Measure(
                    $"[{index++}]", () => item, item?.GetType() ?? typeof(object), type.Options, mayBeNull: true);
        }
    }

    private static Part Measure(
        string name, Func<object?> read, Type declared, JsonSerializerOptions options, bool mayBeNull)
    {
        object? value = null;
        JsonTypeInfo? type = null;
        try
        {
            value = read();
            if (value is null && !mayBeNull) throw new JsonException("must not be null");
            type = options.GetTypeInfo(declared);
            return new Part(name, value, type, JsonSerializer.SerializeToUtf8Bytes(value, type).Length, null);
        }
        catch (Exception e) when (e is not OutOfMemoryException)
        {
            return new Part(name, value, type, 0, e);
        }
    }
}
