namespace GentleCourier.Tables;

/// <summary>A row that a statement has found. Columns are counted from 0.</summary>
internal abstract class Row
{
    public abstract long Number(int column);

    public abstract string? TextOrNull(int column);

    public abstract byte[] Bytes(int column);

    /// <summary>A time that is named by the clock.</summary>
    public abstract DateTimeOffset? TimeOrNull(int column);

    /// <summary>When something was, in a table's time, for a person to read.</summary>
    public abstract DateTimeOffset? MomentOrNull(int column);

    public abstract TimeSpan? SpanOrNull(int column);

    public string Text(int column) => TextOrNull(column)!;

    public DateTimeOffset Moment(int column) => MomentOrNull(column)!.Value;

    public TimeSpan Span(int column) => SpanOrNull(column)!.Value;

    /// <summary>An age, which a clock that was set back may have made negative.</summary>
    public TimeSpan Age(int column) => Span(column) is var age && age < TimeSpan.Zero ? TimeSpan.Zero : age;
}
