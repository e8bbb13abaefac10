using GentleCourier.Engines;
using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace GentleCourier.Sqlite;

/// <summary>By how much more there is of a queue than was counted.</summary>
internal readonly record struct Difference(long Queue, string Name, long Waiting, long InHand, long DeadLetters);

/// <summary>Counts the rows of queues.</summary>
internal static class Recounting
{
    public static long EstimateRows(SqliteConnection connection)
    {
        using var rows = Statement.On(
            connection, "SELECT coalesce(sum(waiting + in_hand + dead), 0) FROM courier_queue");
        return rows.Scalar() ?? 0;
    }

    /// <summary>All of one moment.</summary>
    /// <returns>What differs; null: it took too long.</returns>
    public static List<Difference>? Count(SqliteConnection connection, TimeSpan within)
    {
        var handle = connection.Handle!;
        var limit = new Timer(_ => raw.sqlite3_interrupt(handle), null, within, Timeout.InfiniteTimeSpan);
        try
        {
            using var count = Statement.On(connection, """
                SELECT id, name, (SELECT count(*) FROM courier_place WHERE queue = q.id) - waiting,
                    (SELECT count(*) FROM courier_lease WHERE queue = q.id) - in_hand,
                    (SELECT count(*) FROM courier_dead_letter WHERE queue = q.id) - dead
                FROM courier_queue q ORDER BY name
                """);
            var found = new List<Difference>();
            while (count.Step())
            {
                var (waiting, inHand, dead) = (count.Int64(2), count.Int64(3), count.Int64(4));
                if ((waiting, inHand, dead) != (0, 0, 0))
                    found.Add(new(count.Int64(0), count.Text(1)!, waiting, inHand, dead));
            }
            return found;
        }
        catch (SqliteException e) when (e.SqliteErrorCode == raw.SQLITE_INTERRUPT)
        {
            return null;
        }
        finally
        {
            // The connection goes back to a pool: whoever has it next must not be interrupted.
            using var over = new ManualResetEvent(false);
            if (limit.Dispose(over)) over.WaitOne();
        }
    }
}
