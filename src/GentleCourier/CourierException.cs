namespace GentleCourier;

/// <summary>
/// A store or a broker cannot do what was asked. The message is for a person: what was tried, on what, what came
/// back, and what to do next; it never holds a secret.
/// </summary>
public class CourierException(string message, Exception? inner = null) : Exception(message, inner)
{
    /// <summary>
    /// Whether the same may succeed later without anybody doing anything here: the place is away, full, busy, or
    /// refuses for the moment. False for what somebody has to mend: a wrong name, password, setting or table.
    /// </summary>
    public bool IsTransient { get; init; }

    /// <summary>The server that could not be reached; null where it is not that.</summary>
    internal Reachability? Reachability { get; set; }

    /// <summary>Whether it is the library's tables: they are missing, or of a version that does not fit.</summary>
    internal bool IsAboutTables { get; init; }

    /// <summary>
    /// Its message without what to do, which others may know better: of tables that are missing or too old.
    /// </summary>
    internal string? WithoutAdvice { get; init; }

    /// <summary>Whether it is that nobody has made the library's tables yet.</summary>
    internal bool IsNotMade { get; init; }

    /// <summary>
    /// Whether it is what was given, such as a text that the place cannot hold, and not the place: given alone, only
    /// that fails.
    /// </summary>
    internal bool IsAboutContent { get; init; }
}
