using System.Runtime.InteropServices;
using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace GentleCourier.Sqlite;

/// <summary>
/// The time of one file, which nobody can set. All who share a SQLite file are on one host, and the time since that
/// host was started is the same for all of them, whatever their clocks say: so a file keeps when that was, and leases,
/// rests, ages and retention are reckoned from there. After a restart of the host it goes on from the latest that is in
/// the file, and what the clock says that the host was off for counts, up to a day: a clock that is wrong by years
/// clears nothing away. Thread-safe.
/// </summary>
/// <param name="file">The file.</param>
/// <param name="table">Where it is kept, in one row.</param>
/// <param name="latest">Asks for the latest time that the file has seen.</param>
/// <param name="clock">The clock; one that is not the system's is the time itself, for tests.</param>
internal sealed partial class FileClock(SqliteFile file, string table, string latest, TimeProvider clock)
{
    private const int BootTime = 7;
    private static readonly long LongestOff = (long)TimeSpan.FromDays(1).TotalMilliseconds;
    private const long Unknown = long.MinValue, Noticeable = 2_000;
    private static readonly Lazy<string> Boot = new(
        () => System.IO.File.ReadAllText("/proc/sys/kernel/random/boot_id").Trim());

    private long started = Unknown;

    /// <summary>Unix milliseconds. Begin with <see cref="Load"/>: until then it is what the clock says.</summary>
    public long Now => clock == TimeProvider.System && Volatile.Read(ref started) is var since and not Unknown
        ? since + SinceBoot() : Wall;

    /// <summary>How far this process's clock is ahead of it, in milliseconds.</summary>
    public long ClockAhead => Wall - Now;

    /// <summary>
    /// A time of the file for people: as this process's clock names it, by how long ago it was, where the two differ.
    /// </summary>
    public DateTimeOffset Shown(long time)
    {
        var ahead = ClockAhead;
        return DateTimeOffset.FromUnixTimeMilliseconds(Math.Abs(ahead) < Noticeable ? time : time + ahead);
    }

    private long Wall => clock.GetUtcNow().ToUnixTimeMilliseconds();

    /// <summary>
    /// Learns when it began, or says it for all, if nobody has since the host was started. Not inside a transaction on
    /// the file.
    /// </summary>
    /// <exception cref="CourierException">The file cannot be used.</exception>
    public void Load()
    {
        if (clock != TimeProvider.System || Volatile.Read(ref started) != Unknown) return;
        using var connection = file.Open();
        try
        {
            // A service may make its own tables before there are any of the library's.
            if (!HasTable(connection)) return;
            var found = Find(connection);
            if (found is null)
            {
                SqliteFile.Execute(connection, "BEGIN IMMEDIATE");
                found = Find(connection) ?? Set(connection);
                SqliteFile.Execute(connection, "COMMIT");
            }
            Volatile.Write(ref started, found.Value);
        }
        catch (SqliteException e)
        {
            raw.sqlite3_exec(connection.Handle, "ROLLBACK");
            throw file.Problem(e, "use");
        }
    }

    /// <summary>Another file is at its place.</summary>
    public void Forget() => Volatile.Write(ref started, Unknown);

    private bool HasTable(SqliteConnection connection)
    {
        using var has = Statement.On(connection, "SELECT 1 FROM sqlite_schema WHERE name = ?");
        return has.Bind(1, table).Scalar() is not null;
    }

    private long? Find(SqliteConnection connection)
    {
        using var find = Statement.On(connection, $"SELECT started FROM {table} WHERE id = 1 AND boot = ?");
        return find.Bind(1, Boot.Value).Scalar();
    }

    private long Set(SqliteConnection connection)
    {
        using var seen = Statement.On(connection, latest);
        using var last = Statement.On(connection, $"SELECT ahead FROM {table}");
        var (before, ahead, wall) = (seen.Scalar() ?? 0, last.Scalar() ?? 0, Wall);
        var off = before <= 0 ? 0 : Math.Clamp(wall - before - ahead, 0, LongestOff);
        var now = before <= 0 ? wall : before + off;
        var start = now - SinceBoot();
        using var set = Statement.On(
            connection, $"INSERT OR REPLACE INTO {table} (id, boot, started, ahead, least) VALUES (1, ?, ?, ?, ?)");
        set.Bind(1, Boot.Value).Bind(2, start).Bind(3, wall - now).Bind(4, before <= 0 ? null : ahead - off).Run();
        return start;
    }

    private static long SinceBoot()
    {
        if (GetTime(BootTime, out var time) != 0) throw new CourierException(
            $"the system does not say since when it has been running (error {Marshal.GetLastPInvokeError()})");
        return time.Seconds * 1000 + time.Nanoseconds / 1_000_000;
    }

    [StructLayout(LayoutKind.Sequential)]
    private struct TimeSpec
    {
        public long Seconds;
        public long Nanoseconds;
    }

    [LibraryImport("libc", EntryPoint = "clock_gettime", SetLastError = true)]
    private static partial int GetTime(int clock, out TimeSpec time);
}
