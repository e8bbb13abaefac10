using GentleCourier.ByHand;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>Reads columns of a row.</summary>
internal static class Rows
{
    public static string? Text(this NpgsqlDataReader row, int column) =>
        row.IsDBNull(column) ? null : row.GetString(column);

    public static byte[] Bytes(this NpgsqlDataReader row, int column) => row.GetFieldValue<byte[]>(column);

    public static DateTimeOffset Time(this NpgsqlDataReader row, int column) =>
        row.GetFieldValue<DateTimeOffset>(column);

    public static TimeSpan? Span(this NpgsqlDataReader row, int column) =>
        row.IsDBNull(column) ? null : row.GetTimeSpan(column);

    /// <summary>An age, which a clock that was set back may have made negative.</summary>
    public static TimeSpan? Age(this NpgsqlDataReader row, int column) =>
        row.Span(column) is { } age ? age < TimeSpan.Zero ? TimeSpan.Zero : age : null;

    /// <summary>An exception kept in three columns: class, message and stack.</summary>
    public static Failure? Failure(this NpgsqlDataReader row, int first) => row.IsDBNull(first) ? null
        : new Failure(row.GetString(first), row.Text(first + 1) ?? "", row.Text(first + 2) ?? "");
}
