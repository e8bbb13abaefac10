using GentleCourier.Engines;

namespace GentleCourier.Postgres;

/// <summary>Who clears away what: the table of a store or a broker. Thread-safe.</summary>
internal sealed class Chores(PostgresServer server, string table)
{
    // A clock that was set back must not keep it from being done.
    private readonly string take = server.Sql($"""
        INSERT INTO {table} AS c (chore, keeper, until) VALUES ($2, $3, coalesce($1, now()) + $4)
        ON CONFLICT (chore) DO UPDATE SET keeper = excluded.keeper, until = excluded.until
            WHERE (c.keeper IS NOT DISTINCT FROM excluded.keeper OR c.until < coalesce($1, now())
                    OR c.until > excluded.until)
                AND (c.done IS NULL OR c.done <= coalesce($1, now()) - $5 OR c.done > coalesce($1, now()))
        RETURNING true
        """);

    private readonly string end = server.Sql($"""
        UPDATE {table} SET until = 'epoch', done = CASE WHEN $4 THEN coalesce($1, now()) ELSE done END
        WHERE chore = $2 AND keeper = $3
        """);

    public async Task<bool> TakeAsync(
        Chore chore, string keeper, TimeSpan lease, TimeSpan every, CancellationToken cancellationToken)
    {
        var isTaken = false;
        await server.RunAsync(
            "take a chore of",
            new RoundTrip().Add(take, row => isTaken = row.GetBoolean(0), server.Now, Parameter.Of(chore.Name),
                Parameter.Of(keeper), Parameter.Of((TimeSpan?)lease), Parameter.Of((TimeSpan?)every)),
            cancellationToken).ConfigureAwait(false);
        return isTaken;
    }

    public Task EndAsync(Chore chore, string keeper, bool isDone, CancellationToken cancellationToken) =>
        server.RunAsync(
            "end a chore of",
            new RoundTrip().Add(
                end, server.Now, Parameter.Of(chore.Name), Parameter.Of(keeper), Parameter.Of(isDone)),
            cancellationToken);
}
