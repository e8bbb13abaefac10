namespace GentleCourier.Tables;

/// <summary>
/// Statements that are run together, in one transaction and at best in one exchange with the database. Built and run by
/// one caller.
/// </summary>
/// <param name="tried">What is tried with them, for messages: a verb with its object, that the database's name can
/// follow.</param>
internal sealed class Statements(string tried)
{
    private readonly List<Step> steps = [];

    public string Tried { get; } = tried;

    public IReadOnlyList<Step> Steps => steps;

    /// <summary>Whether nothing is written.</summary>
    public bool OnlyRead => steps.TrueForAll(step => !step.Writes);

    /// <summary>Whether the commit need not reach the disk before it is reported.</summary>
    public bool NeedNotSurvive { get; init; }

    /// <summary>When something is due that waits from now on; whoever moves what is due is told, if that is soon.
    /// </summary>
    public DateTimeOffset? Due { get; init; }

    /// <summary>Whether events come into the outbox, of which the relay is told.</summary>
    public bool AddsEvents { get; init; }

    public Statements Read(Sql sql, Action<Row> row) => Add(new(sql) { Row = row });

    /// <summary>Reads as many rows as have no more than <see cref="Engines.Budget.Bytes"/>, one at the least.</summary>
    /// <param name="sql">Gives rows in an order; the column with most of the bytes is <c>event</c>.</param>
    /// <param name="order">The same order, by names of columns.</param>
    /// <param name="row">Takes a row, and reads its bytes.</param>
    public Statements ReadPage(Sql sql, string order, Action<Row> row) =>
        Add(new(sql) { Row = row, PageOrder = order });

    /// <summary>Writes, and gives rows of what it has written.</summary>
    public Statements WriteRows(Sql sql, Action<Row> row) => Add(new(sql) { Row = row, Writes = true });

    /// <summary>Writes.</summary>
    /// <param name="sql">Changes rows.</param>
    /// <param name="changed">Takes how many.</param>
    /// <param name="then">What is done besides, where any were: each holds <see cref="Sql.Changed"/>.</param>
    public Statements Write(Sql sql, Action<long>? changed = null, params IReadOnlyList<Sql> then) =>
        Add(new(sql) { Writes = true, Changed = changed, Then = then });

    private Statements Add(Step step)
    {
        steps.Add(step);
        return this;
    }

    /// <summary>One statement, and what is done with what comes of it.</summary>
    internal sealed record Step(Sql Sql)
    {
        public Action<Row>? Row { get; init; }

        public string? PageOrder { get; init; }

        public bool Writes { get; init; }

        public Action<long>? Changed { get; init; }

        public IReadOnlyList<Sql> Then { get; init; } = [];
    }
}
