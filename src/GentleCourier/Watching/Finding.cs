namespace GentleCourier.Watching;

/// <summary>Something that a look at the figures has found.</summary>
/// <param name="Code">Its stable name, for scripts; see the guide.</param>
/// <param name="IsWrong">Whether somebody has to do something; otherwise it is good to know.</param>
/// <param name="What">What it is, with its evidence, in a line for people.</param>
/// <param name="Next">What to do next.</param>
/// <param name="For">For how long it has been so, at least; null where nobody knows.</param>
public sealed record Finding(string Code, bool IsWrong, string What, string Next, TimeSpan? For = null)
{
    /// <summary>
    /// Which queue, worker or store it is about: with <see cref="Code"/> it tells whether a finding of two looks is the
    /// same one. Of one way in which a worker receives: <c>WORKER on QUEUE</c>.
    /// </summary>
    public string Subject { get; init; } = "";
}
