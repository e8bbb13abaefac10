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
        return store.Services.JoinAsync(transaction, trip, "add an event for later to", cancellationToken);

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
            await store.Services.RunAsync(theirs, trip, "tell of events for later in", cancellationToken)
                .ConfigureAwait(false);
            return;
        }
        await server.RunAsync("tell of events for later in", trip, cancellationToken).ConfigureAwait(false);
    }

    public DateTimeOffset? Stamp => null;

    public Task SetClockAsync(DateTimeOffset time, CancellationToken cancellationToken) =>
        throw new CourierException($"{store.DisplayName} goes by its server's clock: set that one right");

    /// <summary>Adds the news of what is due soon, which is told with the commit.</summary>
    public void AddNews(RoundTrip trip)
    {
        if (!store.IsTwoPhase) trip.Add(sql.Tell, static _ => { });
    }

    /// <summary>
    /// By this process's clock. Whatever is not told of is found by a look within <see cref="LaterDraft.Soon"/>, half
    /// of which is left for clocks that differ.
    /// </summary>
    public bool IsSoon(DueTime due) => due.From(clock.GetUtcNow()) < clock.GetUtcNow() + 2 * LaterDraft.Soon;
}
