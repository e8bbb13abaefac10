using System.Globalization;
using Microsoft.Extensions.Options;

namespace GentleCourier.Hosting;

/// <summary>A setting: its name, how it is read from text into an option, and what that option is now.</summary>
/// <param name="Name">Its name within its section.</param>
/// <param name="Read">Sets the option, of a path and a text; throws where that cannot be read.</param>
/// <param name="Get">The option.</param>
internal sealed record Setting<TOptions>(
    string Name, Action<TOptions, string, string> Read, Func<TOptions, object?> Get);

/// <summary>How the texts of settings are read; each says where a text stands that it cannot read.</summary>
internal static class Setting
{
    /// <summary><c>none</c> takes away what the code has set.</summary>
    private const string None = "none";

    public static Setting<TOptions> Of<TOptions, T>(
        string name, Func<TOptions, T> get, Action<TOptions, T> set, Func<string, string, T> parse) =>
        new(name, (options, path, text) => set(options, parse(path, text)), options => get(options));

    public static string? Text(string path, string text) => text;

    public static string? OptionalText(string path, string text) => text == None ? null : text;

    public static int Number(string path, string text) =>
        int.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var number) ? number
            : throw Unreadable(path, text, "a whole number");

    public static bool Flag(string path, string text) => bool.TryParse(text, out var flag) ? flag
        : throw Unreadable(path, text, "true or false");

    public static TimeSpan Time(string path, string text) =>
        TimeSpan.TryParse(text, CultureInfo.InvariantCulture, out var time)
        && text.Contains(':', StringComparison.Ordinal) ? time : throw Unreadable(path, text, "a time as hh:mm:ss");

    public static TimeSpan? OptionalTime(string path, string text) => text == None ? null : Time(path, text);

    public static double? OptionalRate(string path, string text) => text == None ? null
        : double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var rate) ? rate
        : throw Unreadable(path, text, "a number");

    public static Prefetch Prefetch(string path, string text) =>
        GentleCourier.Prefetch.TryParse(text, out var prefetch) ? prefetch
            : throw Unreadable(path, text, "a whole number, self-tuned or unlimited");

    public static T OneOf<T>(string path, string text) where T : struct, Enum =>
        Enum.TryParse<T>(text, ignoreCase: true, out var one) && Enum.IsDefined(one) && !char.IsAsciiDigit(text[0])
            ? one : throw Unreadable(path, text, string.Join(" or ", Enum.GetNames<T>()));

    private static OptionsValidationException Unreadable(string path, string text, string expected) =>
        Settings.Problem(path, $"{path} must be {expected}, but is '{text}'");
}
