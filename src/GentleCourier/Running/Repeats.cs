using System.Numerics;

namespace GentleCourier;

/// <summary>
/// Counts what is reported again and again, so that it is written down more and more rarely: the first time, the
/// second, the fourth, and so on. Thread-safe.
/// </summary>
internal sealed class Repeats
{
    // Of more kinds than this, it begins anew.
    private const int Most = 100;

    private readonly Lock gate = new();
    private readonly Dictionary<string, int> counts = new(StringComparer.Ordinal);
    private bool isEmpty = true;

    /// <summary>It has happened. True: it is time to say so.</summary>
    public bool IsTimeToSay(string what, out int times)
    {
        lock (gate)
        {
            if (counts.Count >= Most && !counts.ContainsKey(what)) counts.Clear();
            isEmpty = false;
            times = counts[what] = counts.GetValueOrDefault(what) + 1;
            return BitOperations.IsPow2(times);
        }
    }

    /// <summary>It is over.</summary>
    public void Forget()
    {
        // Nearly always there is none, and every success asks.
        if (Volatile.Read(ref isEmpty)) return;
        lock (gate)
        {
            counts.Clear();
            isEmpty = true;
        }
    }
}
