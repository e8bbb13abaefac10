using System.Data.Common;
using System.Globalization;
using System.Text;
using GentleCourier.Engines;
using GentleCourier.Tables;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>The tables of a store or a broker in a database.</summary>
/// <param name="server">Where.</param>
/// <param name="prepare">Makes sure that the tables are there, before something is read for the first time.</param>
/// <param name="store">Whose transactions may be joined, and who is told of what comes; null: a broker's.</param>
internal sealed class PostgresTables(
    PostgresServer server, Func<CancellationToken, Task> prepare, PostgresStore? store = null) : ITables
{
    // A table may be large, and a reader patient.
    private static readonly TimeSpan ReadingLimit = TimeSpan.FromSeconds(30);

    private volatile bool isPrepared;

    public async Task RunAsync(
        Statements statements, DbTransaction? transaction, CancellationToken cancellationToken)
    {
        if (statements.Steps.Count == 0) return;
        var trip = new RoundTrip();
        if (statements.NeedNotSurvive) trip.NeedNotSurvive();
        foreach (var step in statements.Steps) Add(trip, step);
        store?.AddNews(trip, statements, transaction is not null);
        if (transaction is not null)
        {
            await store!.Services.JoinAsync(transaction, trip, statements.Tried, cancellationToken)
                .ConfigureAwait(false);
            return;
        }
        if (statements.OnlyRead && !isPrepared)
        {
            await prepare(cancellationToken).ConfigureAwait(false);
            isPrepared = true;
        }
        await server.RunAsync(
            statements.Tried, trip, cancellationToken, statements.OnlyRead ? ReadingLimit : null).ConfigureAwait(false);
    }

    public Sql NextDue(Sql where, bool isOfFew, LaterEvent? after, int limit)
    {
        Sql behind = $"{true}";
        if (after is not null) behind = $"(due, id) > ({after.Due}, {after.Row})";
        // Where few are meant they are found by what they are, and not by going through all in their order.
        var found = Sql.Of(isOfFew ? "MATERIALIZED" : "NOT MATERIALIZED");
        return $"""
            WITH found AS {found} (
                SELECT id AS place, due AS at FROM courier.outbox_later WHERE {where} AND {behind})
            SELECT place, at FROM found ORDER BY at, place LIMIT {limit}
            """;
    }

    /// <summary>To the millisecond, as everybody else keeps times.</summary>
    public Sql SetDue(DateTimeOffset at, bool byClock) => $"due = date_trunc('milliseconds', {at})";

    private void Add(RoundTrip trip, Statements.Step step)
    {
        var writer = new Writer(server);
        if (step.Row is { } take)
        {
            if (step.PageOrder is { } order) writer.WritePage(step.Sql, order);
            else writer.Write(step.Sql);
            var row = new ServerRow();
            trip.Add(writer.Text, found => take(row.At(found)), writer.Parameters);
        }
        else if (step.Changed is null && step.Then.Count == 0)
        {
            writer.Write(step.Sql);
            trip.Add(writer.Text, writer.Parameters);
        }
        else
        {
            writer.WriteCounted(step.Sql);
            trip.Add(writer.Text, found => step.Changed?.Invoke(found.GetInt64(0)), writer.Parameters);
            foreach (var then in step.Then)
            {
                var next = new Writer(server);
                next.Write(then);
                trip.Add(next.Text, next.Parameters);
            }
        }
    }

    /// <summary>Writes a statement with its parameters.</summary>
    private sealed class Writer(PostgresServer server)
    {
        // A setting of the transaction's.
        private const string Changed = "written.rows";

        private readonly StringBuilder text = new();
        private readonly List<NpgsqlParameter> parameters = [];
        private int now;

        public string Text => server.Sql(text.ToString());

        public NpgsqlParameter[] Parameters => [.. parameters];

        /// <summary>Of the rows in their order the first ones, to the limit of bytes; one at the least.</summary>
        public void WritePage(Sql sql, string order)
        {
            text.Append("SELECT * FROM (SELECT *, sum(octet_length(event)) OVER (ORDER BY ").Append(order)
                .Append(" ROWS UNBOUNDED PRECEDING) - octet_length(event) AS before FROM (");
            Write(sql);
            text.Append(CultureInfo.InvariantCulture, $") r) b WHERE before < {Budget.Bytes} ORDER BY {order}");
        }

        /// <summary>
        /// What changes rows gives how many, and keeps that for the statements that follow from it. As parts of one
        /// statement, those would be run in no order.
        /// </summary>
        public void WriteCounted(Sql sql)
        {
            text.Append("WITH changed AS (");
            Write(sql);
            text.Append($" RETURNING 1) SELECT count(*), set_config('{Changed}', count(*)::text, true) FROM changed");
        }

        public void Write(Sql sql)
        {
            foreach (var part in sql.Parts)
            {
                text.Append(part switch
                {
                    string constant => constant,
                    SqlValue value => Number(Of(value)),
                    // Asked once: row by row, the whole table would be compared with it.
                    SqlWord.Now or SqlWord.Clock => $"(SELECT coalesce({Now}, clock_timestamp()))",
                    SqlWord.ClockHolds => "true",
                    SqlWord.Row => "id",
                    SqlWord.NextRow => "nextval(pg_get_serial_sequence('courier.outbox', 'id'))",
                    SqlWord.HandledId => "coalesce(event_id, courier.inbox.id::text)",
                    SqlWord.HandledAt => StoreStatements.HandledAt,
                    SqlWord.Changed => $"current_setting('{Changed}') <> '0'",
                    _ => throw new ArgumentOutOfRangeException(nameof(sql), part, null),
                });
            }
        }

        private string Now
        {
            get
            {
                if (now == 0) now = Added(server.Now);
                return $"${now}";
            }
        }

        private string Number(NpgsqlParameter parameter) => $"${Added(parameter)}";

        private int Added(NpgsqlParameter parameter)
        {
            parameters.Add(parameter);
            return parameters.Count;
        }

        private static NpgsqlParameter Of(SqlValue value) => value.Kind switch
        {
            SqlKind.Number => Parameter.Of((long)value.Content!),
            SqlKind.Truth => Parameter.Of((bool)value.Content!),
            SqlKind.Text => Parameter.Of((string?)value.Content),
            SqlKind.Bytes => Parameter.Of((ReadOnlyMemory<byte>)value.Content!),
            SqlKind.Time => Parameter.Of(((DateTimeOffset?)value.Content)?.UtcDateTime),
            SqlKind.Span => Parameter.Of((TimeSpan?)value.Content),
            _ => throw new ArgumentOutOfRangeException(nameof(value), value.Kind, null),
        };
    }

    private sealed class ServerRow : Row
    {
        private NpgsqlDataReader? row;

        public ServerRow At(NpgsqlDataReader found)
        {
            row = found;
            return this;
        }

        public override long Number(int column) => row!.GetInt64(column);

        public override string? TextOrNull(int column) => row!.Text(column);

        public override byte[] Bytes(int column) => row!.Bytes(column);

        public override DateTimeOffset? TimeOrNull(int column) => row!.IsDBNull(column) ? null : row!.Time(column);

        public override DateTimeOffset? MomentOrNull(int column) => TimeOrNull(column);

        public override TimeSpan? SpanOrNull(int column) => row!.Span(column);
    }
}
