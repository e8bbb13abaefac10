using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>Who clears away what: the table of a store or a broker. Used by its writer alone.</summary>
internal sealed class Chores(SqliteConnection connection, string table) : IDisposable
{
    // A clock that was set back must not keep it from being done.
    private readonly Statement take = new(connection, $"""
        INSERT INTO {table} (chore, keeper, until) VALUES (?1, ?2, ?3 + ?4)
        ON CONFLICT (chore) DO UPDATE SET keeper = excluded.keeper, until = excluded.until
            WHERE (keeper IS excluded.keeper OR until < ?3 OR until > ?3 + ?4)
                AND (done IS NULL OR done <= ?3 - ?5 OR done > ?3)
        RETURNING 1
        """);
    private readonly Statement end = new(
        connection, $"UPDATE {table} SET until = 0, done = iif(?3, ?4, done) WHERE chore = ?1 AND keeper = ?2");

    public bool Take(Chore chore, string keeper, long now, TimeSpan lease, TimeSpan every) => take
        .Bind(1, chore.Name).Bind(2, keeper).Bind(3, now).Bind(4, (long)lease.TotalMilliseconds)
        .Bind(5, (long)every.TotalMilliseconds).Scalar() is not null;

    public int End(Chore chore, string keeper, long now, bool isDone) =>
        end.Bind(1, chore.Name).Bind(2, keeper).Bind(3, isDone ? 1L : 0L).Bind(4, now).Run();

    public void Dispose()
    {
        take.Dispose();
        end.Dispose();
    }
}
