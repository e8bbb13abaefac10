namespace GentleCourier.Watching;

/// <summary>Something that a look at the figures has found.</summary>
public sealed class Finding(string code, bool isWrong, string what, string next, TimeSpan? @for = null)
{
    /// <summary>Its stable name, for scripts; see the guide.</summary>
    public string Code { get; } = code;

    /// <summary>Whether somebody has to do something; otherwise it is good to know.</summary>
    public bool IsWrong { get; } = isWrong;

    /// <summary>What it is, with its evidence, in a line for people.</summary>
    public string What { get; } = what;

    /// <summary>What to do next.</summary>
    public string Next { get; } = next;

    /// <summary>For how long it has been so, at least; null where nobody knows.</summary>
    public TimeSpan? For { get; } = @for;

    /// <summary>
    /// Which queue, worker or store it is about: with <see cref="Code"/> it tells whether a finding of two looks is the
    /// same one. Of one way in which a worker receives: <c>WORKER on QUEUE</c>.
    /// </summary>
    public string Subject { get; init; } = "";
}
