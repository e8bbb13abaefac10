using GentleCourier.Scheduling;
using GentleCourier.Tables;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>
/// The clock that a store goes by where something is named by the clock, and those of its relays. All times are
/// milliseconds. One caller at a time.
/// </summary>
internal sealed class ClockStatements(SqliteConnection connection, FileClock time) : IDisposable
{
    /// <summary>How far the clock is ahead of the file's time, as a column.</summary>
    public const string Ahead = "coalesce((SELECT ahead FROM courier_store_clock), 0)";

    /// <summary>Whether nothing that is named by the clock leaves, as a column.</summary>
    public const string IsDoubted = "EXISTS (SELECT 1 FROM courier_store_clock WHERE doubted IS NOT NULL)";

    // Smaller differences are what reading two clocks one after the other makes.
    private const long Noticeable = 20;

    private readonly Statement mine = new(
        connection, "SELECT ahead, moved, until FROM courier_relay_clock WHERE relay = ?");
    private readonly Statement say = new(
        connection, "INSERT OR REPLACE INTO courier_relay_clock (relay, ahead, moved, until) VALUES (?, ?, ?, ?)");
    private readonly Statement forget = new(connection, """
        DELETE FROM courier_relay_clock
        WHERE until < ?1 OR relay = (SELECT relay FROM courier_relay WHERE term = ?2 AND relay IS NOT NULL)
        """);
    private readonly Statement relays = new(
        connection, "SELECT relay, ahead, moved FROM courier_relay_clock WHERE until >= ? ORDER BY relay");
    private readonly Statement agreed = new(
        connection, "SELECT ahead, least, agreed, doubted FROM courier_store_clock");
    private readonly Statement agree = new(
        connection, "UPDATE courier_store_clock SET ahead = ?, agreed = ?, doubted = NULL");
    private readonly Statement stay = new(connection, "UPDATE courier_relay_clock SET moved = 0");
    private readonly Statement doubt = new(connection, "UPDATE courier_store_clock SET doubted = ?");

    /// <summary>Null where the time is given, and no clock is asked.</summary>
    public AgreedClock? Agreed
    {
        get
        {
            if (!agreed.Step()) return null;
            var found = new AgreedClock(
                agreed.Int64(0), agreed.NullableInt64(1), (Standing)agreed.Int64(2), agreed.NullableInt64(3));
            agreed.Reset();
            return found;
        }
    }

    /// <summary>How far the clock is ahead of the file's time.</summary>
    public static long AheadOf(SqliteConnection connection) => ScalarOf(connection, Ahead);

    /// <summary>Whether nothing that is named by the clock leaves.</summary>
    public static bool IsInDoubt(SqliteConnection connection) => ScalarOf(connection, IsDoubted) != 0;

    /// <summary>A relay says how far its clock is ahead; it is believed for three leases.</summary>
    public void Say(string relay, long ahead, long now, long lease)
    {
        var moved = false;
        if (mine.Bind(1, relay).Step())
        {
            var (before, had, until) = (mine.Int64(0), mine.Int64(1) != 0, mine.Int64(2));
            mine.Reset();
            if (Math.Abs(before - ahead) < Noticeable && until > now + 2 * lease) return;
            // While others hold to what was agreed, it is this one alone that was set.
            moved = Agreed is { } known && !ClockVote.AreNear(ahead, known.Ahead)
                && (had || ClockVote.AreNear(before, known.Ahead))
                && !Relays(now).Exists(r => r.Relay != relay && ClockVote.AreNear(r.Ahead, known.Ahead));
        }
        say.Bind(1, relay).Bind(2, ahead).Bind(3, moved ? 1 : 0).Bind(4, now + 3 * lease).Run();
    }

    /// <summary>The relay of a term has stopped; so have those that are not heard any more.</summary>
    public void Forget(long term, long now) => forget.Bind(1, now).Bind(2, term).Run();

    public List<RelayClock> Relays(long now)
    {
        var found = new List<RelayClock>();
        relays.Bind(1, now);
        while (relays.Step()) found.Add(new(relays.Text(0)!, relays.Int64(1), relays.Int64(2) != 0));
        return found;
    }

    /// <summary>Whether what the clocks say is not what is written down.</summary>
    public bool IsToSettle(long now)
    {
        if (Relays(now) is not { Count: > 0 } said || Agreed is not { } known) return false;
        return ClockVote.Of(said, known) is not { } ahead ? known.Doubted is null
            : known is not { Doubted: null, Standing: not Standing.NotYet }
                || Math.Abs(ahead - known.Ahead) >= Noticeable;
    }

    /// <summary>Writes down what the clocks say; what was set by hand stays so, where they say the same.</summary>
    public void Settle(long now)
    {
        if (Agreed is not { } known) return;
        if (ClockVote.Of(Relays(now), known) is not { } ahead) doubt.Bind(1, known.Doubted ?? now).Run();
        else
            Set(now, ahead, known.Standing == Standing.ByHand && ClockVote.AreNear(ahead, known.Ahead)
                ? Standing.ByHand : Standing.Agreed);
    }

    /// <summary>From now on it is so late; schedules that wait for a later one's times are reckoned anew.</summary>
    public void Set(long now, long ahead, Standing standing)
    {
        var isBack = ahead < Agreed?.Ahead - ClockVote.Tolerance;
        agree.Bind(1, ahead).Bind(2, (long)standing).Run();
        stay.Run();
        if (!isBack) return;
        var told = DateTimeOffset.FromUnixTimeMilliseconds(now + ahead);
        var rows = new List<ScheduleRow>();
        SqliteTables.Run(connection, time, ScheduleTable.Read(new("read the schedules of"), ScheduleTable.All, rows));
        var changes = new Statements("set back the schedules of");
        foreach (var row in rows)
        {
            var next = Schedules.SetBack(row, told, Random.Shared.NextDouble());
            if (next != row) ScheduleTable.Write(changes, next);
        }
        SqliteTables.Run(connection, time, changes);
    }

    private static long ScalarOf(SqliteConnection connection, string column)
    {
        using var statement = Statement.On(connection, $"SELECT {column}");
        return statement.Scalar()!.Value;
    }

    public void Dispose()
    {
        foreach (var statement in new[] { mine, say, forget, relays, agreed, agree, stay, doubt }) statement.Dispose();
    }
}
