using System.Collections.Concurrent;
using System.Diagnostics.Metrics;
using System.Globalization;

namespace GentleCourier.Bench.Budgets;

/// <summary>
/// What a process has used, and what its library and its driver have counted. A command or a batch of them is a round
/// trip to the server; a commit that the driver sends by itself is one more, and is not among them.
/// </summary>
internal sealed class Usage : IDisposable
{
    public const string Processor = "processor, us", Switches = "context switches", Allocated = "allocated, bytes",
        Written = "written, bytes", Commands = "commands", Statements = "statements", Commits = "commits";

    private readonly ConcurrentDictionary<string, long> counts = new();
    private readonly MeterListener listener = new();
    private Dictionary<string, double> before = [];

    public Usage()
    {
        listener.InstrumentPublished = (instrument, to) =>
        {
            if (instrument.Name is "db.client.operation.duration" or "messaging.client.operation.duration")
                to.EnableMeasurementEvents(instrument);
        };
        listener.SetMeasurementEventCallback<double>((instrument, _, tags, _) => counts.AddOrUpdate(
            instrument.Name[0] == 'd' ? Commands : NameOf(tags), 1, static (_, count) => count + 1));
        listener.Start();
        SqliteTrace.Begin();
    }

    public void Begin() => before = Read();

    /// <summary>Since <see cref="Begin"/>.</summary>
    public Dictionary<string, double> End() => Difference(before, Read());

    public void Dispose() => listener.Dispose();

    public static Dictionary<string, double> Difference(
        Dictionary<string, double> before, Dictionary<string, double> after) =>
        after.ToDictionary(a => a.Key, a => a.Value - before.GetValueOrDefault(a.Key));

    private Dictionary<string, double> Read()
    {
        var now = counts.ToDictionary(c => c.Key, c => (double)c.Value);
        now[Processor] = Environment.CpuUsage.TotalTime.TotalMicroseconds;
        now[Allocated] = GC.GetTotalAllocatedBytes();
        now[Written] = Number("/proc/self/io", "wchar:");
        now[Switches] = Directory.EnumerateDirectories("/proc/self/task").Sum(
            task => Number($"{task}/status", "voluntary_ctxt_switches:")
                + Number($"{task}/status", "nonvoluntary_ctxt_switches:"));
        if (SqliteTrace.Statements > 0)
            (now[Statements], now[Commits]) = (SqliteTrace.Statements, SqliteTrace.Commits);
        foreach (var (sql, (calls, micros)) in SqliteTrace.Texts)
            (now[$"{StatementCost.Calls}{sql}"], now[$"{StatementCost.Micros}{sql}"]) = (calls, micros);
        return now;
    }

    /// <summary>A number of a file of the kernel's; 0 where a thread has just ended.</summary>
    private static long Number(string file, string name)
    {
        try
        {
            foreach (var line in File.ReadLines(file))
                if (line.StartsWith(name, StringComparison.Ordinal))
                    return long.Parse(line.AsSpan(name.Length), NumberStyles.AllowLeadingWhite, null);
        }
        catch (IOException)
        {
        }
        return 0;
    }

    /// <summary>How the names of counts begin that are of exchanges with the broker.</summary>
    public const string Exchanges = "exchanges of ";

    /// <summary>A relay's turn, a hand-over, a settling: each is one exchange with the broker.</summary>
    private static string NameOf(ReadOnlySpan<KeyValuePair<string, object?>> tags)
    {
        foreach (var tag in tags)
            if (tag.Key == "messaging.operation.name") return $"{Exchanges}{tag.Value}";
        return Exchanges;
    }
}
