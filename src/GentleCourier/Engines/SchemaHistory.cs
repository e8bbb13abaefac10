using System.Reflection;

namespace GentleCourier.Engines;

/// <summary>One step from a version of a schema to the next. A step that has shipped never changes.</summary>
/// <param name="Release">The release of Gentle Courier that brings it.</param>
/// <param name="IsAdditive">
/// Whether programs that do not know it may go on using the tables: it adds a table, an index, or a column that has a
/// default and that they need not keep.
/// </param>
/// <param name="Sql">Its statements.</param>
internal sealed record SchemaStep(string Release, bool IsAdditive, string Sql);

/// <summary>What a database says of the schema that is in it.</summary>
/// <param name="Version">How many steps have been taken; 0 where there is none of it.</param>
/// <param name="Oldest">Programs that know this version, or a later one, may use it.</param>
/// <param name="Release">The release of Gentle Courier that knows <paramref name="Oldest"/>.</param>
internal readonly record struct FoundSchema(int Version, int Oldest, string Release);

/// <summary>
/// The steps of a store's or a broker's tables: version n is the first n of them. A database records its version, and
/// the oldest one that a program has to know to use it, so that old and new instances of a service run side by side for
/// as long as steps are additive, and a deployment can be rolled back. Pure computation.
/// </summary>
internal sealed class SchemaHistory(string part, params SchemaStep[] steps)
{
    private static readonly string Own =
        typeof(SchemaHistory).Assembly.GetName().Version?.ToString(3) ?? "of another version";

    /// <summary>What it is of: <c>store</c> or <c>broker</c>.</summary>
    public string Part => part;

    /// <summary>What is recorded once all steps have been taken.</summary>
    public FoundSchema Latest { get; } = Record(steps);

    /// <summary>All statements, for a database that has none of it.</summary>
    public string Sql => string.Join("\n\n", steps.Select(s => s.Sql));

    /// <summary>The statements that are still to be run; none where the tables can be used as they are.</summary>
    /// <param name="found">What the database says.</param>
    /// <param name="where">Its name, for people.</param>
    /// <exception cref="CourierException">
    /// They were made by a newer release, and changed so that this one may not use them.
    /// </exception>
    public IReadOnlyList<string> Missing(FoundSchema found, string where)
    {
        if (found.Version > steps.Length && found.Oldest > steps.Length)
        {
            throw new CourierException(
                $"the {part} in {where} has version {found.Version}, made by a newer Gentle Courier, and takes "
                + $"{found.Release} or later; this is {Own}, which knows version {steps.Length}, so update it")
            {
                IsAboutTables = true,
            };
        }
        return [.. steps.Skip(found.Version).Select(s => s.Sql)];
    }

    /// <summary>Checks that nothing is missing.</summary>
    /// <param name="found">What the database says.</param>
    /// <param name="where">Its name, for people.</param>
    /// <param name="isWithout">What to say of a database that has none of it.</param>
    /// <exception cref="CourierException">
    /// Something is, or the tables are too new; the message says what to do.
    /// </exception>
    public void Check(FoundSchema found, string where, string isWithout)
    {
        if (Missing(found, where).Count == 0) return;
        var what = found.Version == 0 ? $"{where} is {isWithout}"
            : $"the {part} in {where} has version {found.Version}, and this program needs {steps.Length}";
        throw new CourierException(
            $"{what}; check the address, or run `courier schema apply {part} --{part} '{where}'`")
        {
            IsAboutTables = true,
            IsNotMade = found.Version == 0,
            WithoutAdvice = what,
        };
    }

    private static FoundSchema Record(SchemaStep[] steps)
    {
        var oldest = Array.FindLastIndex(steps, s => !s.IsAdditive);
        return new FoundSchema(steps.Length, oldest + 1, steps[oldest].Release);
    }
}
