namespace GentleCourier;

/// <summary>What exceptions say. One whose own text is broken says its name: it must break nothing else.</summary>
internal static class Words
{
    /// <summary>The full name of its class.</summary>
    public static string NameOf(Exception e) => e.GetType().FullName ?? e.GetType().Name;

    /// <summary>Its message.</summary>
    public static string Of(Exception e) => Safely(e, static e => e.Message);

    /// <summary>Its message and stack, with inner exceptions.</summary>
    public static string AllOf(Exception e) => Safely(e, static e => e.ToString());

    /// <summary>
    /// What went wrong, in a line; of an exception that only points to the one in it, what that one says.
    /// </summary>
    public static string InLine(Exception e)
    {
        var message = Of(e);
        return e.InnerException is { } inner && message.Contains("inner exception", StringComparison.OrdinalIgnoreCase)
            ? $"{e.GetType().Name}: {InLine(inner)}"
            : $"{e.GetType().Name}: {FirstLine(message)}";
    }

    public static string FirstLine(string text) => text.Split('\n', 2)[0].TrimEnd();

    /// <summary>
    /// What somebody else has written, in a line: it may hold what drives a terminal, or begins another line.
    /// </summary>
    public static string Line(string text)
    {
        foreach (var c in text)
            if (char.IsControl(c)) return string.Concat(text.Select(static c => char.IsControl(c) ? ' ' : c));
        return text;
    }

    private static string Safely(Exception e, Func<Exception, string?> words)
    {
        try
        {
            return words(e) ?? NameOf(e);
        }
        catch (Exception)
        {
            return NameOf(e);
        }
    }
}
