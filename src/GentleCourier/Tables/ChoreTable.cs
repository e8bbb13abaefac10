using GentleCourier.Engines;

namespace GentleCourier.Tables;

/// <summary>Who clears away what.</summary>
/// <param name="tables">Of a store or a broker.</param>
/// <param name="name">The table.</param>
internal sealed class ChoreTable(ITables tables, string name)
{
    private readonly Sql table = Sql.Of(name);

    public async Task<bool> TakeAsync(
        Chore chore, string keeper, TimeSpan lease, TimeSpan every, CancellationToken cancellationToken)
    {
        var isTaken = false;
        // A clock that was set back must not keep it from being done.
        await tables.RunAsync(
            new Statements("take a chore of").Write(
                $"""
                INSERT INTO {table} AS c (chore, keeper, until) VALUES ({chore.Name}, {keeper}, {Sql.Now} + {lease})
                ON CONFLICT (chore) DO UPDATE SET keeper = excluded.keeper, until = excluded.until
                    WHERE (c.keeper IS NOT DISTINCT FROM excluded.keeper OR c.until < {Sql.Now}
                            OR c.until > {Sql.Now} + {lease})
                        AND (c.done IS NULL OR c.done <= {Sql.Now} - {every} OR c.done > {Sql.Now})
                """,
                count => isTaken = count > 0),
            null, cancellationToken).ConfigureAwait(false);
        return isTaken;
    }

    public Task EndAsync(Chore chore, string keeper, bool isDone, CancellationToken cancellationToken) =>
        tables.RunAsync(
            new Statements("end a chore of").Write($"""
                UPDATE {table} SET until = {DateTimeOffset.UnixEpoch},
                    done = CASE WHEN {isDone} THEN {Sql.Now} ELSE done END
                WHERE chore = {chore.Name} AND keeper = {keeper}
                """),
            null, cancellationToken);
}
