namespace GentleCourier.Engines;

/// <summary>
/// A broker or a store that can be looked over: whether it can be reached, and is set up as it has to be. Those of this
/// library's engines can.
/// </summary>
internal interface IExaminable
{
    /// <summary>
    /// Looks at one thing after another, and says of each how it is; at what rests on what is wrong it does not look.
    /// Changes nothing, and fails only by its cancellation.
    /// </summary>
    IAsyncEnumerable<Check> ExamineAsync(CancellationToken cancellationToken = default);
}

/// <summary>One thing that was looked at.</summary>
/// <param name="Name">What, in a word or two.</param>
/// <param name="Result">Whether it is as it has to be.</param>
/// <param name="Said">How it is; where it is wrong, with the remedy.</param>
internal readonly record struct Check(string Name, CheckResult Result, string Said)
{
    internal static Check Good(string name, string said) => new(name, CheckResult.Good, said);

    internal static Check Note(string name, string said) => new(name, CheckResult.Note, said);

    internal static Check Wrong(string name, string said) => new(name, CheckResult.Wrong, said);
}

/// <summary>Whether something is as it has to be.</summary>
internal enum CheckResult
{
    /// <summary>It is.</summary>
    Good,

    /// <summary>It works, and there is something to know.</summary>
    Note,

    /// <summary>It is not.</summary>
    Wrong,
}
