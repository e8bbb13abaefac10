using System.Diagnostics;
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;
using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace GentleCourier.Sqlite;

/// <summary>
/// How a connection waits while another has the write lock. Transactions here are short, so it looks again after
/// microseconds at first and after a millisecond at last. SQLite's own handler backs off to 100 ms and the driver's to
/// 150 ms: under a burst that leaves latency to luck, and the disk idle.
/// </summary>
internal static unsafe partial class Patience
{
    private const int Spins = 8, ShortSleeps = 50;

    /// <summary>Lets the connection wait for about <paramref name="limit"/> before it reports a locked file.</summary>
    public static void Give(SqliteConnection connection, TimeSpan limit)
    {
        try
        {
            _ = sqlite3_busy_handler(connection.Handle!.DangerousGetHandle(), &Wait, (nint)limit.TotalMilliseconds);
        }
        catch (Exception e) when (e is DllNotFoundException or EntryPointNotFoundException)
        {
            // Another build of SQLite than the driver's usual one: its own handler is coarser, but right.
            raw.sqlite3_busy_timeout(connection.Handle, (int)limit.TotalMilliseconds);
        }
    }

    // Waiting blocks the thread, so that a thread waits for one lock at a time.
    [ThreadStatic]
    private static long began;

    [ThreadStatic]
    private static CancellationToken given;

    /// <summary>
    /// Has this thread wait no longer once it is cancelled, whatever the connection, until it is disposed.
    /// </summary>
    public static Ending Until(CancellationToken cancellationToken)
    {
        var before = given;
        given = cancellationToken;
        return new(before);
    }

    /// <summary>What was before is so again.</summary>
    public readonly ref struct Ending(CancellationToken before)
    {
        public void Dispose() => given = before;
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static int Wait(nint limit, int tries)
    {
        if (given.IsCancellationRequested) return 0;
        if (tries == 0) began = Stopwatch.GetTimestamp();
        else if (Stopwatch.GetElapsedTime(began).TotalMilliseconds > limit) return 0;
        if (tries < Spins) Thread.SpinWait(20 << tries);
        else _ = usleep(tries < ShortSleeps ? 100u : 1000u);
        return 1;
    }

    [LibraryImport("e_sqlite3")]
    [UnmanagedCallConv(CallConvs = [typeof(CallConvCdecl)])]
    private static partial int sqlite3_busy_handler(
        nint connection, delegate* unmanaged[Cdecl]<nint, int, int> handler, nint argument);

    [LibraryImport("libc")]
    private static partial int usleep(uint microseconds);
}
