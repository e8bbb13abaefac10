using System.Data.Common;
using System.Text;
using GentleCourier.Engines;
using GentleCourier.Tables;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>The tables of a store or a broker in a file. Times are Unix milliseconds.</summary>
/// <param name="time">The file's.</param>
/// <param name="read">Reads on a connection.</param>
/// <param name="write">Writes in a transaction of the file's writer.</param>
/// <param name="join">Does something in a transaction of the service's.</param>
internal sealed class SqliteTables(
    FileClock time, Func<Action<SqliteConnection>, CancellationToken, Task> read,
    Func<Action<SqliteConnection>, CancellationToken, Task> write,
    Func<DbTransaction, string, Action<SqliteConnection>, CancellationToken, Task>? join = null) : ITables
{
    public Task RunAsync(
        Statements statements, DbTransaction? transaction, CancellationToken cancellationToken) =>
        transaction is not null
            ? join!(transaction, statements.Tried, connection => Run(connection, time, statements), cancellationToken)
            : (statements.OnlyRead ? read : write)(connection => Run(connection, time, statements), cancellationToken);

    public Sql NextDue(Sql where, bool isOfFew, LaterEvent? after, int limit) =>
        // By a delay in the file's time, and by the clock: each has an index of its own.
        $"""
        SELECT place, at FROM ({NextDueBy(where, byClock: false, after, limit)})
        UNION ALL SELECT place, at FROM ({NextDueBy(where, byClock: true, after, limit)})
        ORDER BY at, place LIMIT {limit}
        """;

    private static Sql NextDueBy(Sql where, bool byClock, LaterEvent? after, int limit)
    {
        var ahead = Sql.Of(byClock ? "0" : ClockStatements.Ahead);
        Sql behind = $"{true}";
        if (after is not null) behind = $"(due, seq) > ({after.Due} - {ahead}, {after.Row})";
        return $"""
            SELECT seq AS place, due + {ahead} AS at FROM courier.outbox_later
            WHERE by_clock = {Sql.Of(byClock ? "1" : "0")} AND {where} AND {behind} ORDER BY due, seq LIMIT {limit}
            """;
    }

    public Sql SetDue(DateTimeOffset at, bool byClock)
    {
        if (byClock) return $"due = {at}, by_clock = 1";
        return $"due = {at} - {Sql.Of(ClockStatements.Ahead)}, by_clock = 0";
    }

    /// <summary>For what wants an answer.</summary>
    public static Func<SqliteConnection, bool> Calling(Action<SqliteConnection> act) => connection =>
    {
        act(connection);
        return true;
    };

    /// <summary>Runs statements on a connection, whatever transaction it is in.</summary>
    public static void Run(SqliteConnection connection, FileClock time, Statements statements)
    {
        // The same text comes again and again, with other values.
        var prepared = new Dictionary<string, Statement>(StringComparer.Ordinal);
        try
        {
            foreach (var step in statements.Steps) Run(step);
        }
        finally
        {
            foreach (var statement in prepared.Values) statement.Dispose();
        }

        void Run(Statements.Step step)
        {
            if (step.Row is { } row)
            {
                Read(Bound(step.Sql), time, row, step.PageOrder is null ? long.MaxValue : Budget.Bytes);
                return;
            }
            var changed = Bound(step.Sql).Run();
            step.Changed?.Invoke(changed);
            if (changed == 0) return;
            foreach (var then in step.Then) Bound(then).Run();
        }

        Statement Bound(Sql sql)
        {
            var (text, values) = Write(sql, time);
            if (!prepared.TryGetValue(text, out var statement))
                prepared.Add(text, statement = Statement.On(connection, text));
            for (var i = 0; i < values.Count; i++) Bind(statement, i + 1, values[i].Content);
            return statement;
        }
    }

    private static void Read(Statement statement, FileClock time, Action<Row> take, long limit)
    {
        var row = new FileRow(statement, time);
        while (statement.Step())
        {
            take(row);
            if (row.BytesRead < limit) continue;
            statement.Reset();
            break;
        }
    }

    private static (string Text, List<SqlValue> Values) Write(Sql sql, FileClock time)
    {
        var (text, values) = (new StringBuilder(), new List<SqlValue>());
        foreach (var part in sql.Parts)
        {
            switch (part)
            {
                case string constant:
                    text.Append(constant.Replace("courier.", "courier_", StringComparison.Ordinal));
                    break;
                case SqlValue value:
                    AddValue(value);
                    break;
                case SqlWord.Now:
                    AddNow();
                    break;
                case SqlWord.Clock:
                    text.Append('(');
                    AddNow();
                    text.Append($" + {ClockStatements.Ahead})");
                    break;
                case SqlWord word:
                    text.Append(word switch
                    {
                        SqlWord.ClockHolds => $"NOT {ClockStatements.IsDoubted}",
                        SqlWord.Row => "seq",
                        SqlWord.NextRow => "NULL",
                        SqlWord.HandledId => OldRows.HandledId,
                        SqlWord.HandledAt => "handled",
                        // What is a consequence is not run where there is nothing to follow.
                        SqlWord.Changed => "TRUE",
                        _ => throw new ArgumentOutOfRangeException(nameof(sql), word, null),
                    });
                    break;
            }
        }
        return (text.ToString(), values);

        void AddNow() => AddValue(new(SqlKind.Number, time.Now));

        void AddValue(SqlValue value)
        {
            values.Add(value);
            text.Append('?').Append(values.Count);
        }
    }

    private static Statement Bind(Statement statement, int index, object? value) => value switch
    {
        null => statement.Bind(index, (string?)null),
        string text => statement.Bind(index, text),
        long number => statement.Bind(index, number),
        bool truth => statement.Bind(index, truth ? 1 : 0),
        DateTimeOffset at => statement.Bind(index, at.ToUnixTimeMilliseconds()),
        TimeSpan span => statement.Bind(index, (long)span.TotalMilliseconds),
        ReadOnlyMemory<byte> bytes => statement.Bind(index, bytes.Span),
        _ => throw new ArgumentException($"a {value.GetType()} is no value of a statement", nameof(value)),
    };

    private sealed class FileRow(Statement row, FileClock time) : Row
    {
        /// <summary>By all rows of the statement.</summary>
        public long BytesRead { get; private set; }

        public override long Number(int column) => row.Int64(column);

        public override string? TextOrNull(int column) => row.Text(column);

        public override byte[] Bytes(int column)
        {
            var bytes = row.Blob(column);
            BytesRead += bytes.Length;
            return bytes;
        }

        public override DateTimeOffset? TimeOrNull(int column) =>
            row.NullableInt64(column) is { } at ? DateTimeOffset.FromUnixTimeMilliseconds(at) : null;

        public override DateTimeOffset? MomentOrNull(int column) =>
            row.NullableInt64(column) is { } at ? time.Shown(at) : null;

        public override TimeSpan? SpanOrNull(int column) =>
            row.NullableInt64(column) is { } span ? TimeSpan.FromMilliseconds(span) : null;
    }
}
