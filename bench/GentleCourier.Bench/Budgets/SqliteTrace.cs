using System.Collections.Concurrent;
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;

namespace GentleCourier.Bench.Budgets;

/// <summary>
/// Counts the statements and the commits of all SQLite connections of this process, and on demand each by its text.
/// Source: sqlite3_auto_extension, sqlite3_trace_v2 and sqlite3_commit_hook of SQLite's C interface.
/// </summary>
internal static unsafe partial class SqliteTrace
{
    private const uint Statement = 1, Profile = 2;
    private static long statements, commits;

    /// <summary>How often each text ran, and its microseconds, where texts are asked for.</summary>
    public static ConcurrentDictionary<string, (long Calls, double Micros)> Texts { get; } = new();

    public static bool ReadsTexts { get; set; }

    public static long Statements => Volatile.Read(ref statements);

    public static long Commits => Volatile.Read(ref commits);

    /// <summary>From now on, for all connections that are opened.</summary>
    public static void Begin()
    {
        SQLitePCL.Batteries_V2.Init();
        if (AutoExtension(&Opened) is not 0 and var code)
            throw new InvalidOperationException($"SQLite's connections cannot be watched: it says {code}");
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static int Opened(nint database, nint error, nint functions)
    {
        CommitHook(database, &Committed, 0);
        return TraceV2(database, ReadsTexts ? Profile : Statement, &Ran, 0);
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static int Ran(uint kind, nint context, nint statement, nint more)
    {
        Interlocked.Increment(ref statements);
        if (kind != Profile) return 0;
        var micros = *(long*)more / 1000.0;
        var text = Marshal.PtrToStringUTF8(Sql(statement)) ?? "";
        Texts.AddOrUpdate(text, (1, micros), (_, sum) => (sum.Calls + 1, sum.Micros + micros));
        return 0;
    }

    [UnmanagedCallersOnly(CallConvs = [typeof(CallConvCdecl)])]
    private static int Committed(nint context)
    {
        Interlocked.Increment(ref commits);
        return 0;
    }

    [LibraryImport("e_sqlite3", EntryPoint = "sqlite3_auto_extension")]
    private static partial int AutoExtension(delegate* unmanaged[Cdecl]<nint, nint, nint, int> opened);

    [LibraryImport("e_sqlite3", EntryPoint = "sqlite3_trace_v2")]
    private static partial int TraceV2(
        nint database, uint kinds, delegate* unmanaged[Cdecl]<uint, nint, nint, nint, int> ran, nint context);

    [LibraryImport("e_sqlite3", EntryPoint = "sqlite3_commit_hook")]
    private static partial nint CommitHook(
        nint database, delegate* unmanaged[Cdecl]<nint, int> committed, nint context);

    [LibraryImport("e_sqlite3", EntryPoint = "sqlite3_sql")]
    private static partial nint Sql(nint statement);
}
