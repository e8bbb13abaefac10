using System.Diagnostics;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Sqlite;

/// <summary>
/// Tells when another connection, of this process or another, has committed to a database file. A commit appends to the
/// write-ahead log, of which the kernel tells at once; whether it is complete, SQLite's <c>data_version</c> tells.
/// Since signals can be lost, it looks besides at every tick. It rests while nobody waits.
/// </summary>
internal sealed class CommitWatch : IDisposable
{
    /// <summary>How often to look without a signal.</summary>
    public static readonly TimeSpan Tick = TimeSpan.FromSeconds(2);

    private static readonly TimeSpan FirstStep = TimeSpan.FromMicroseconds(100);
    private static readonly TimeSpan FirstRest = TimeSpan.FromMilliseconds(100);
    private static readonly TimeSpan WithoutSignals = TimeSpan.FromMilliseconds(20);

    private readonly SqliteFile file;
    private readonly Action<SqliteConnection> look;
    private readonly FileEvents events = new();
    private readonly ManualResetEventSlim wanted = new(false);
    private readonly Loop loop;
    private readonly Thread thread;
    private TimeSpan step = FirstStep;
    private int waiting;
    private volatile bool stopped;

    /// <param name="file">The file.</param>
    /// <param name="look">
    /// Called on the watch's thread after a commit and at every tick, with a connection to read from.
    /// </param>
    /// <param name="logger">Is told when the file is away or damaged.</param>
    public CommitWatch(SqliteFile file, Action<SqliteConnection> look, ILogger? logger)
    {
        this.file = file;
        this.look = look;
        loop = new Loop($"Watching {file.DisplayName}", FirstRest, Tick, TimeProvider.System, logger);
        thread = new Thread(() => loop.Run(Watch, () => stopped, rest => events.Wait(rest)))
        {
            IsBackground = true,
            Name = "courier watch",
        };
        thread.Start();
    }

    /// <summary>Somebody begins to wait; commits and ticks are told until <see cref="Leave"/>.</summary>
    public void Enter()
    {
        lock (wanted)
            if (++waiting == 1) wanted.Set();
    }

    /// <summary>Somebody no longer waits.</summary>
    public void Leave()
    {
        lock (wanted)
            if (--waiting == 0 && !stopped) wanted.Reset();
    }

    public void Dispose()
    {
        stopped = true;
        wanted.Set();
        events.Interrupt();
        thread.Join();
        events.Dispose();
        wanted.Dispose();
    }

    private void Watch()
    {
        wanted.Wait();
        if (stopped) return;
        var opened = file.Identity;
        using var connection = file.Open();
        using var version = new Statement(connection, "PRAGMA data_version");
        var seen = version.Scalar();
        look(connection);
        while (true)
        {
            wanted.Wait();
            if (stopped) return;
            WaitForCommit(version, ref seen);
            if (file.Identity != opened) throw file.Replaced();
            look(connection);
            loop.Succeeded();
        }
    }

    private void WaitForCommit(Statement version, ref long? seen)
    {
        // A write tells of a commit that is not complete yet: that it is, nothing tells. And while the watch was not
        // armed, such a write may have gone by: also that of a second commit, while the first was found. So each time
        // it is armed it looks after a step, and after a longer and longer one, whatever it finds meanwhile.
        if (!events.IsArmed) step = FirstStep;
        var signals = events.Arm(file.Path + "-wal");
        for (var left = Tick; left > TimeSpan.Zero && !stopped;)
        {
            if (Changed(version, ref seen)) return;
            var began = Stopwatch.GetTimestamp();
            var limit = signals ? step : WithoutSignals;
            if (events.Wait(limit < left ? limit : left))
            {
                signals = events.Arm(file.Path + "-wal");
                step = FirstStep;
            }
            else
            {
                step = step + (step / 4) is var longer && longer < Tick ? longer : Tick;
            }
            left -= Stopwatch.GetElapsedTime(began);
        }
    }

    private static bool Changed(Statement version, ref long? seen)
    {
        var now = version.Scalar();
        var changed = now != seen;
        seen = now;
        return changed;
    }
}
