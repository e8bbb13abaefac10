using System.Globalization;
using GentleCourier.ByHand;
using GentleCourier.Engines;

namespace GentleCourier.Tables;

/// <summary>Reads dead letters in a database. Ids are numbers, the later letter's the greater.</summary>
internal sealed class LetterTable(ITables tables)
{
    /// <param name="queue">The number of a queue; null: of all.</param>
    /// <param name="limit">How many at the most.</param>
    /// <param name="beyond">Only those that come behind this one.</param>
    /// <param name="oldestFirst">In which order.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    public async Task<IReadOnlyList<DeadLetter>> ReadAsync(
        long? queue, int limit, string? beyond, bool oldestFirst, CancellationToken cancellationToken)
    {
        var from = oldestFirst ? 0 : long.MaxValue;
        if (beyond is not null && !TryParse(beyond, out from)) return [];
        var order = Sql.Of(oldestFirst ? "ASC" : "DESC");
        Sql behind = $"id {Sql.Of(oldestFirst ? ">" : "<")} {from}";
        Sql rows = $"SELECT * FROM courier.dead_letter WHERE {behind} ORDER BY id {order} LIMIT {limit}";
        // Each condition by itself, so that an index is of use.
        if (queue is { } number)
        {
            rows = $"""
                SELECT * FROM courier.dead_letter WHERE queue = {number} AND {behind}
                ORDER BY queue, id {order} LIMIT {limit}
                """;
        }
        return await ReadAsync(rows, oldestFirst ? "id" : "id DESC", cancellationToken).ConfigureAwait(false);
    }

    public async Task<DeadLetter?> FindAsync(string id, CancellationToken cancellationToken) =>
        !TryParse(id, out var number) ? null
            : (await ReadAsync($"SELECT * FROM courier.dead_letter WHERE id = {number}", "id", cancellationToken)
                .ConfigureAwait(false)).FirstOrDefault();

    public static bool TryParse(string id, out long number) =>
        long.TryParse(id, NumberStyles.None, CultureInfo.InvariantCulture, out number);

    public static string TextOf(long number) => number.ToString(CultureInfo.InvariantCulture);

    private async Task<List<DeadLetter>> ReadAsync(Sql rows, string order, CancellationToken cancellationToken)
    {
        var letters = new List<DeadLetter>();
        await tables.RunAsync(
            new Statements("read").ReadPage(
                $"""
                SELECT d.id AS id, q.name, d.reason, d.exception, d.message, d.stack, d.attempts, d.worker, d.arrived,
                    d.first_attempt, d.set_aside, d.event AS event, d.history
                FROM ({rows}) d JOIN courier.queue q ON q.id = d.queue ORDER BY d.{Sql.Of(order)}
                """,
                order, row => letters.Add(Read(row))),
            null, cancellationToken).ConfigureAwait(false);
        return letters;
    }

    private static DeadLetter Read(Row row) => new()
    {
        Id = TextOf(row.Number(0)),
        Queue = row.Text(1),
        Reason = row.Text(2),
        Failure = row.TextOrNull(3) is { } exception
            ? new Failure(exception, row.TextOrNull(4) ?? "", row.TextOrNull(5) ?? "") : null,
        Attempts = (int)row.Number(6),
        Worker = row.Text(7),
        Arrived = row.MomentOrNull(8),
        FirstAttempt = row.MomentOrNull(9),
        SetAside = row.Moment(10),
        Json = row.Bytes(11),
        History = HistoryJson.Read(row.TextOrNull(12)),
    };
}
