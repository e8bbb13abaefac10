using System.Globalization;

namespace GentleCourier.Events;

/// <summary>
/// What a text may hold that identifies an event, orders or describes it. Source: CloudEvents 1.0.2, "Type System",
/// String: no control characters, no halves of surrogate pairs, no noncharacters. Databases refuse them, or cut or
/// change them in silence, and two ids become one. The lengths are what their indexes take. Pure computation.
/// </summary>
internal static class TextRule
{
    /// <summary>Of what identifies an event, or orders it.</summary>
    public const int LongestKey = 255;

    /// <summary>Of what is only read.</summary>
    public const int LongestText = 1024;

    /// <summary>Why a text cannot be an attribute; null where it can.</summary>
    public static string? ProblemOf(string text, int longest)
    {
        if (text.Length == 0) return "is empty";
        if (text.Length > longest)
            return string.Create(CultureInfo.InvariantCulture,
                $"has {text.Length:N0} characters, more than {longest:N0}");
        for (var i = 0; i < text.Length; i++)
        {
            var c = text[i];
            if (char.IsControl(c)) return At("a control character", c, i);
            if (!char.IsSurrogate(c))
            {
                if (c is >= '\uFDD0' and <= '\uFDEF' or '\uFFFE' or '\uFFFF') return At("a noncharacter", c, i);
                continue;
            }
            if (i + 1 == text.Length || !char.IsSurrogatePair(c, text[i + 1]))
                return At("half of a surrogate pair", c, i);
            if ((char.ConvertToUtf32(c, text[++i]) & 0xFFFE) == 0xFFFE) return At("a noncharacter", c, i - 1);
        }
        return null;
    }

    private static string At(string what, char c, int at) => string.Create(CultureInfo.InvariantCulture,
        $"holds {what} (U+{(int)c:X4}, at {at})");

    /// <summary>
    /// A text for people with what no database takes replaced: NUL, and halves of surrogate pairs, as a message that
    /// was cut may end with one.
    /// </summary>
    public static string Fit(string text)
    {
        for (var i = 0; i < text.Length; i++)
        {
            if (text[i] != '\0' && !char.IsSurrogate(text[i])) continue;
            return string.Concat(text.EnumerateRunes().Select(rune => rune.Value == 0 ? " " : rune.ToString()));
        }
        return text;
    }
}
