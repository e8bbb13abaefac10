using System.Diagnostics;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>
/// How far one link has looked at a queue in key order, and what it still has to look for: keys that it has settled,
/// what was committed behind it, and now and then, or when another link has died, all of it again. Thread-safe.
/// </summary>
internal sealed class KeyLine(long link, int queue, QueuePlace place, KeyOrderStatements sql, TimeProvider clock)
{
    // So many copies are looked at for a hand-over, and more where too little was found among them.
    private const int Few = 16, Most = 4_000;
    // Looking at all of it is for what nobody told of, for a small share of the time.
    private const int Restraint = 100;
    private static readonly TimeSpan BuryEvery = TimeSpan.FromSeconds(1), SweepEvery = TimeSpan.FromSeconds(30);

    private readonly Lock gate = new();
    private readonly HashSet<string> freed = new(StringComparer.Ordinal);
    // What lies before it was committed when it was passed.
    private Position late = new(0, clock);
    private long passed, buriedAt, sweptAt = clock.GetTimestamp(), sweepBegan;
    private long? sweptTo;
    private TimeSpan rest = SweepEvery;
    private int looks = Few;

    /// <summary>Nobody has these in hand any more, and what waits with them has to be looked for.</summary>
    public void Free(IEnumerable<string> keys)
    {
        lock (gate) freed.UnionWith(keys);
    }

    /// <summary>What has come of a look is not known: all of it is looked at anew.</summary>
    public void Reset()
    {
        lock (gate) (passed, sweptTo, late) = (0, null, new(0, clock));
        place.Pass(link, 0);
    }

    /// <summary>Adds a hand-over to other statements.</summary>
    /// <param name="trip">Those.</param>
    /// <param name="credit">How many at the most; with 0 only what has a turn is told of.</param>
    /// <param name="isFromHead">Whether to look also at what came late.</param>
    /// <param name="step">What is asked about the head of the queue along with it.</param>
    /// <param name="now">The time.</param>
    public Look Begin(RoundTrip trip, int credit, bool isFromHead, QueuePlace.Step? step, NpgsqlParameter now)
    {
        lock (gate)
        {
            var look = new Look(
                passed, [.. freed], credit, credit == 0 ? 0 : Math.Clamp(2 * credit, looks, Most), step, late);
            if (!isFromHead || credit == 0) return look;
            if (buriedAt == 0 || clock.GetElapsedTime(buriedAt) >= BuryEvery)
            {
                buriedAt = clock.GetTimestamp();
                trip.Add(sql.Bury, _ => look.HasBuried = true, now, Parameter.Of(queue), Parameter.Of(link));
            }
            if (sweptTo is null && clock.GetElapsedTime(sweptAt) >= rest) BeginSweep();
            look.IsSweep = sweptTo is not null;
            look.Again = sweptTo ?? (late.Place < passed ? late.Place : null);
            return look;
        }
    }

    /// <summary>It has succeeded.</summary>
    /// <param name="look">What was begun.</param>
    /// <param name="found">How many copies it has handed over.</param>
    /// <returns>Whether there may be more that nobody will tell of.</returns>
    public bool End(Look look, int found)
    {
        lock (gate)
        {
            freed.ExceptWith(look.Freed);
            if (look.Late != late) return true;
            passed = Math.Max(passed, look.Passed);
            look.Step?.Tell(late, look.Passed);
            if (look.Chunk > 0) looks = found >= look.Credit ? Few : Math.Min(Most, 4 * looks);
            if (look.IsSweep) EndSweep(look);
            if (look.HasBuried && sweptTo is null) BeginSweep();
            place.Pass(link, passed);
            return sweptTo is not null || look.Chunk > 0 && look.Seen == look.Chunk || freed.Count > 0;
        }
    }

    private void BeginSweep() => (sweptTo, sweepBegan) = (place.From, Stopwatch.GetTimestamp());

    private void EndSweep(Look look)
    {
        sweptTo = look.SeenAgain == look.Chunk ? look.LastAgain : null;
        if (sweptTo is not null) return;
        var took = Restraint * Stopwatch.GetElapsedTime(sweepBegan);
        (sweptAt, rest) = (clock.GetTimestamp(), took > SweepEvery ? took : SweepEvery);
    }

    /// <summary>One look: where it begins, and what it has seen.</summary>
    internal sealed class Look(
        long from, string[] freed, int credit, int chunk, QueuePlace.Step? step, Position late)
    {
        public long From => from;

        public string[] Freed => freed;

        public int Credit => credit;

        public int Chunk => chunk;

        public QueuePlace.Step? Step => step;

        public Position Late => late;

        public long? Again { get; set; }

        public bool IsSweep { get; set; }

        public bool HasBuried { get; set; }

        public long Passed { get; private set; }

        public long? LastAgain { get; private set; }

        public long Seen { get; private set; }

        public long SeenAgain { get; private set; }

        public bool HasTurned { get; private set; }

        /// <summary>What is told with each row.</summary>
        public void Read(NpgsqlDataReader row) =>
            (Passed, LastAgain, Seen, SeenAgain, HasTurned) = (row.GetInt64(8), row.IsDBNull(9) ? null : row.GetInt64(9),
                row.GetInt64(10), row.GetInt64(11), row.GetInt64(12) > 0);
    }
}
