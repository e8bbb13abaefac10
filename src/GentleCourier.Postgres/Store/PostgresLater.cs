using System.Data;
using System.Data.Common;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>Events that wait in a store's database until they are due.</summary>
internal sealed class PostgresLater(PostgresStore store, Signal changed, TimeProvider clock) : ILaterPort
{
    // Rows that have moved stay in the index for as long as the longest transaction in the server: so it looks where
    // the last ones were, and now and then at all, since transactions commit out of order.
    private static readonly TimeSpan LooksAtAllEvery = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan WhileLocked = TimeSpan.FromMilliseconds(50);

    private readonly PostgresServer server = store.Server;
    private readonly LaterStatements sql = new(store.Server);
    private DateTime from = DateTime.UnixEpoch;
    private long lookedAtAll;
    private Task? told;

    public Task AddAsync(
        DbTransaction transaction, IReadOnlyList<LaterDraft> events, CancellationToken cancellationToken)
    {
        var trip = new RoundTrip();
        foreach (var part in Budget.Part(events, static d => d.Event.Json.Length))
        {
            trip.Add(sql.Add, server.Now, Texts(part, d => d.Event.Id), Texts(part, d => d.Event.Type),
                Texts(part, d => d.Event.PartitionKey), Parameter.Of([.. part.Select(d => d.Event.Json)]),
                Parameter.Of([.. part.Select(d => d.Due.Time?.UtcDateTime)]),
                Parameter.Of([.. part.Select(d => (TimeSpan?)d.Due.Delay)]));
        }
        if (events.Any(d => IsSoon(d.Due))) AddNews(trip);
        return store.RunInServiceAsync(transaction, trip, "add an event for later to", cancellationToken);

        static NpgsqlParameter Texts(List<LaterDraft> part, Func<LaterDraft, string?> text) =>
            Parameter.Of([.. part.Select(text)]);
    }

    public async Task<DueStep> MoveDueAsync(
        long term, int limit, IReadOnlyCollection<string> except, CancellationToken cancellationToken)
    {
        if (told is null or { IsCompleted: true } || clock.GetElapsedTime(lookedAtAll) > LooksAtAllEvery)
        {
            told = changed.Next;
            lookedAtAll = clock.GetTimestamp();
            from = DateTime.UnixEpoch;
        }
        var (later, schedule) = ((TimeSpan?)null, (TimeSpan?)null);
        await server.RunAsync(
            "look for what is due in",
            new RoundTrip().Add(
                sql.Look, row => (later, schedule) = (row.Span(0), row.Span(1)), server.Now,
                Parameter.Of((DateTime?)from), Parameter.Of(except.ToArray<string?>())),
            cancellationToken).ConfigureAwait(false);
        if (!(later <= TimeSpan.Zero)) return new DueStep(0, later, schedule);

        FaultPoint.Pass(FaultPoint.DueNotMoved);
        var (moved, last) = (0, from);
        // It must survive a crash of the server: what has been published from the outbox is not to be cancelled.
        await server.RunAsync(
            "move what is due in",
            new RoundTrip().Add(
                sql.MoveDue,
                row => (moved, last) = (row.GetInt32(0), row.IsDBNull(1) ? from : row.GetDateTime(1)), server.Now,
                Parameter.Of((DateTime?)from), Parameter.Of(limit), Parameter.Of(term)),
            cancellationToken, PostgresBroker.PublishLimit).ConfigureAwait(false);
        if (moved == 0) return new DueStep(0, WhileLocked, schedule);
        FaultPoint.Pass(FaultPoint.DueMovedNotTold);
        store.WakeRelay();
        from = last;
        return new DueStep(moved, TimeSpan.Zero, schedule, -later.Value);
    }

    public Task WaitAsync(TimeSpan limit, CancellationToken cancellationToken) =>
        store.WaitForNewsAsync(told ?? changed.Next, limit, cancellationToken);

    public async Task TellAsync(DbConnection connection, CancellationToken cancellationToken)
    {
        if (store.IsTwoPhase) return;
        var trip = new RoundTrip();
        AddNews(trip);
        if (connection is NpgsqlConnection { State: ConnectionState.Open } theirs)
        {
            await store.RunOnAsync(theirs, trip, "tell of events for later in", cancellationToken)
                .ConfigureAwait(false);
            return;
        }
        await server.RunAsync("tell of events for later in", trip, cancellationToken).ConfigureAwait(false);
    }

    public DateTimeOffset? Stamp => null;

    public Task SetClockAsync(DateTimeOffset time, CancellationToken cancellationToken) =>
        throw new CourierException($"{store.DisplayName} goes by its server's clock: set that one right");

    public async Task<DateTimeOffset> ReadTimeAsync(CancellationToken cancellationToken)
    {
        var time = DateTimeOffset.UnixEpoch;
        await server.RunAsync(
            "read", new RoundTrip().Add(sql.Time, row => time = row.Time(0), server.Now), cancellationToken)
            .ConfigureAwait(false);
        return time;
    }

    public async Task<IReadOnlyList<LaterEvent>> ReadAsync(LaterFilter which, int limit, LaterEvent? after,
        DbTransaction? transaction, CancellationToken cancellationToken)
    {
        var events = new List<LaterEvent>();
        var (statement, parameters) = sql.Read(which, limit, after);
        var trip = new RoundTrip().Add(
            statement,
            row => events.Add(new LaterEvent(
                row.GetInt64(0), row.GetString(1), row.GetString(2), row.Text(3), row.Time(4), row.Time(5),
                row.Bytes(6))),
            parameters);
        await RunAsync(transaction, trip, "read the events for later of", cancellationToken).ConfigureAwait(false);
        return events;
    }

    public Task<int> CancelAsync(
        LaterFilter which, DbTransaction? transaction, CancellationToken cancellationToken)
    {
        var (statement, parameters) = sql.Cancel(which);
        return CountAsync(new RoundTrip(), statement, parameters, transaction, cancellationToken);
    }

    public Task<int> MoveAsync(IReadOnlyList<LaterEvent> events, DateTimeOffset time, bool byClock,
        DbTransaction? transaction, CancellationToken cancellationToken)
    {
        var (rows, trip) = (events.ToArray(), new RoundTrip());
        if (IsSoon(Due.At(time))) AddNews(trip);
        return CountAsync(
            trip, sql.Move,
            [Parameter.Of((DateTime?)time.UtcDateTime), Parameter.Of(Array.ConvertAll(rows, e => e.Row)),
                Parameter.Of(Array.ConvertAll(rows, e => (string?)e.Id)),
                Parameter.Of(Array.ConvertAll(rows, e => e.Json))],
            transaction, cancellationToken);
    }

    /// <summary>Adds the news of what is due soon, which is told with the commit.</summary>
    public void AddNews(RoundTrip trip)
    {
        if (!store.IsTwoPhase) trip.Add(sql.Tell, static _ => { });
    }

    /// <summary>
    /// By this process's clock. Whatever is not told of is found by a look within <see cref="LaterDraft.Soon"/>, half
    /// of which is left for clocks that differ.
    /// </summary>
    public bool IsSoon(Due due) => due.From(clock.GetUtcNow()) < clock.GetUtcNow() + 2 * LaterDraft.Soon;

    private async Task<int> CountAsync(RoundTrip trip, string statement, NpgsqlParameter[] parameters,
        DbTransaction? transaction, CancellationToken cancellationToken)
    {
        var count = 0;
        trip.Add(statement, row => count = row.GetInt32(0), parameters);
        await RunAsync(transaction, trip, "change the events for later of", cancellationToken).ConfigureAwait(false);
        return count;
    }

    private Task RunAsync(
        DbTransaction? transaction, RoundTrip trip, string tried, CancellationToken cancellationToken) =>
        transaction is null ? server.RunAsync(tried, trip, cancellationToken)
            : store.RunInServiceAsync(transaction, trip, tried, cancellationToken);
}
