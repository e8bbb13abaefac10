using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>Rows of schedules, as they are in a file. Their times are by the clock, in Unix milliseconds.</summary>
internal static class ScheduleStatements
{
    /// <param name="connection">The connection.</param>
    /// <param name="due">By when they are to be due; null: all.</param>
    public static List<ScheduleRow> Read(SqliteConnection connection, long? due = null)
    {
        using var statement = new Statement(connection, """
            SELECT name, version, type, template, rule, declared_rule, declaration, next, due, fired, paused, changed
            FROM courier_schedule WHERE ?1 IS NULL OR due <= ?1 ORDER BY name
            """);
        statement.Bind(1, due);
        var rows = new List<ScheduleRow>();
        while (statement.Step())
        {
            rows.Add(new ScheduleRow(statement.Text(0)!, statement.Int64(1))
            {
                Type = statement.Text(2)!,
                Template = statement.Blob(3),
                Rule = statement.Text(4)!,
                DeclaredRule = statement.Text(5)!,
                Declaration = statement.Text(6)!,
                Next = Time(statement, 7),
                Due = Time(statement, 8),
                Fired = Time(statement, 9),
                Paused = Time(statement, 10),
                Changed = Time(statement, 11),
            });
        }
        return rows;
    }

    /// <returns>False where it has been changed meanwhile.</returns>
    public static bool Write(SqliteConnection connection, ScheduleRow row)
    {
        using var write = new Statement(connection, row.Version == 0
            ? """
              INSERT INTO courier_schedule (name, version, type, template, rule, declared_rule, declaration, next, due,
                  fired, paused, changed)
              VALUES (?1, ?2 + 1, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12) ON CONFLICT DO NOTHING
              """
            : """
              UPDATE courier_schedule SET version = ?2 + 1, type = ?3, template = ?4, rule = ?5, declared_rule = ?6,
                  declaration = ?7, next = ?8, due = ?9, fired = ?10, paused = ?11, changed = ?12
              WHERE name = ?1 AND version = ?2
              """);
        return write.Bind(1, row.Name).Bind(2, row.Version).Bind(3, row.Type).Bind(4, row.Template.Span)
            .Bind(5, row.Rule).Bind(6, row.DeclaredRule).Bind(7, row.Declaration).Bind(8, Milliseconds(row.Next))
            .Bind(9, Milliseconds(row.Due)).Bind(10, Milliseconds(row.Fired)).Bind(11, Milliseconds(row.Paused))
            .Bind(12, Milliseconds(row.Changed)).Run() == 1;
    }

    private static DateTimeOffset? Time(Statement statement, int column) =>
        statement.NullableInt64(column) is { } time ? DateTimeOffset.FromUnixTimeMilliseconds(time) : null;

    private static long? Milliseconds(DateTimeOffset? time) => time?.ToUnixTimeMilliseconds();
}
