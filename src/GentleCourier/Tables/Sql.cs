using System.Runtime.CompilerServices;

namespace GentleCourier.Tables;

/// <summary>
/// A statement, or a part of one, written as an interpolated string: what stands in braces becomes a parameter, a word
/// that each engine says in its own way, or a part. Tables are written <c>courier.name</c>. Times are such as people
/// name by the clock, or <see cref="Now"/>, and durations are added to them and taken from them.
/// </summary>
/// <param name="literalLength">Of the constant text.</param>
/// <param name="formattedCount">How many braces.</param>
[InterpolatedStringHandler]
internal sealed class Sql(int literalLength, int formattedCount)
{
    /// <summary>The time of the database.</summary>
    public const SqlWord Now = SqlWord.Now;

    /// <summary>The time as people name it, by the clock that the store goes by.</summary>
    public const SqlWord Clock = SqlWord.Clock;

    /// <summary>Whether that clock is not in doubt.</summary>
    public const SqlWord ClockHolds = SqlWord.ClockHolds;

    /// <summary>The column with the number of a row.</summary>
    public const SqlWord Row = SqlWord.Row;

    /// <summary>A number for a row that is added to those that are held.</summary>
    public const SqlWord NextRow = SqlWord.NextRow;

    /// <summary>Whether the statement that this one is a consequence of has changed anything.</summary>
    public const SqlWord Changed = SqlWord.Changed;

    /// <summary>An event's id in the inbox, as a text.</summary>
    public const SqlWord HandledId = SqlWord.HandledId;

    /// <summary>When an event in the inbox was handled.</summary>
    public const SqlWord HandledAt = SqlWord.HandledAt;

    private readonly List<object> parts = new(literalLength == 0 ? formattedCount : 2 * formattedCount + 1);

    /// <summary>Texts, words and values, in their order.</summary>
    public IReadOnlyList<object> Parts => parts;

    /// <summary>A part that was reckoned, and is no value.</summary>
    public static Sql Of(string text)
    {
        var part = new Sql(text.Length, 0);
        part.AppendLiteral(text);
        return part;
    }

    /// <summary>What it says, for a person who looks into it.</summary>
    public override string ToString() => string.Concat(parts.Select(part => part is SqlValue ? "?" : part.ToString()));

    public void AppendLiteral(string value) => parts.Add(value);

    public void AppendFormatted(Sql value) => parts.AddRange(value.parts);

    public void AppendFormatted(SqlWord value) => parts.Add(value);

    public void AppendFormatted(long value) => parts.Add(new SqlValue(SqlKind.Number, value));

    public void AppendFormatted(bool value) => parts.Add(new SqlValue(SqlKind.Truth, value));

    public void AppendFormatted(string? value) => parts.Add(new SqlValue(SqlKind.Text, value));

    public void AppendFormatted(ReadOnlyMemory<byte> value) => parts.Add(new SqlValue(SqlKind.Bytes, value));

    public void AppendFormatted(DateTimeOffset? value) => parts.Add(new SqlValue(SqlKind.Time, value));

    public void AppendFormatted(TimeSpan? value) => parts.Add(new SqlValue(SqlKind.Span, value));
}

/// <summary>What each engine says in its own way, <see cref="Sql"/>.</summary>
internal enum SqlWord
{
    Now,
    Clock,
    ClockHolds,
    Row,
    NextRow,
    Changed,
    HandledId,
    HandledAt,
}

/// <summary>What a value is, also where it is null.</summary>
internal enum SqlKind
{
    Number,
    Truth,
    Text,
    Bytes,
    Time,
    Span,
}

/// <summary>A value in a statement.</summary>
internal sealed record SqlValue(SqlKind Kind, object? Content);
