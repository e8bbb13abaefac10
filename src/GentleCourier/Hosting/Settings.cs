using System.Globalization;
using Microsoft.Extensions.Configuration;
using Microsoft.Extensions.Options;

namespace GentleCourier.Hosting;

/// <summary>
/// Reads one section of the configuration into options. A value that cannot be read and a name that no option has are
/// errors which say where: a misspelt setting that is silently ignored costs people hours.
/// </summary>
internal sealed class Settings(IConfigurationSection section)
{
    private readonly HashSet<string> known = new(StringComparer.OrdinalIgnoreCase);

    public string? Text(string name, string? otherwise) => Value(name) ?? otherwise;

    /// <summary><c>none</c> takes away what the code has set.</summary>
    public string? OptionalText(string name, string? otherwise) => Text(name, otherwise) is var text && text == "none"
        ? null : text;

    public int Number(string name, int otherwise) => Value(name) is not { } text ? otherwise
        : int.TryParse(text, out var number) ? number
        : throw Unreadable(name, text, "a whole number");

    public bool Flag(string name, bool otherwise) => Value(name) is not { } text ? otherwise
        : bool.TryParse(text, out var flag) ? flag
        : throw Unreadable(name, text, "true or false");

    public TimeSpan Time(string name, TimeSpan otherwise) => Value(name) is not { } text ? otherwise
        : TimeSpan.TryParse(text, out var time) && text.Contains(':', StringComparison.Ordinal) ? time
        : throw Unreadable(name, text, "a time as hh:mm:ss");

    /// <summary><c>none</c> takes away a limit that the code has set.</summary>
    public TimeSpan? OptionalTime(string name, TimeSpan? otherwise) => Value(name) switch
    {
        null => otherwise,
        "none" => null,
        _ => Time(name, default),
    };

    /// <summary><c>none</c> takes away a limit that the code has set.</summary>
    public double? OptionalRate(string name, double? otherwise) => Value(name) switch
    {
        null => otherwise,
        "none" => null,
        var text => double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var rate) ? rate
            : throw Unreadable(name, text, "a number"),
    };

    /// <summary>Null where it is not set.</summary>
    public Prefetch? Prefetch(string name) => Value(name) is not { } text ? null
        : GentleCourier.Prefetch.TryParse(text, out var prefetch) ? prefetch
        : throw Unreadable(name, text, "a whole number, self-tuned or unlimited");

    public T OneOf<T>(string name, T otherwise) where T : struct, Enum => Value(name) is not { } text ? otherwise
        : Enum.TryParse<T>(text, ignoreCase: true, out var one) && !char.IsAsciiDigit(text[0]) ? one
        : throw Unreadable(name, text, string.Join(" or ", Enum.GetNames<T>()));

    /// <summary>Names that are read elsewhere.</summary>
    public Settings Ignore(params ReadOnlySpan<string> names)
    {
        foreach (var name in names) known.Add(name);
        return this;
    }

    /// <summary>Call it last: whatever has not been asked for is unknown.</summary>
    public void RefuseOthers()
    {
        foreach (var child in section.GetChildren())
        {
            if (!known.Contains(child.Key))
                throw Problem(
                    $"{child.Path} is not a setting of this process; {section.Path} knows "
                    + $"{(known.Count == 0 ? "none" : string.Join(", ", known.Order(StringComparer.Ordinal)))}");
        }
    }

    private string? Value(string name)
    {
        known.Add(name);
        return section[name];
    }

    private OptionsValidationException Unreadable(string name, string text, string expected) =>
        Problem($"{section.Path}:{name} must be {expected}, but is '{text}'");

    private OptionsValidationException Problem(string message) => new(section.Path, typeof(CourierOptions), [message]);
}
