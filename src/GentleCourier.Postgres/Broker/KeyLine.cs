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
    // So many more copies are looked at than a hand-over may take, and more where too little was found among them.
    private const int Few = 4, Most = 1_000;
    // Others may have looked so much further since it was last asked how far they are. Where one gets further than
    // that, what it has passed is found when this link, or another, has come there.
    private const int Margin = 10_000;
    private static readonly TimeSpan AskEvery = TimeSpan.FromSeconds(1), Believed = TimeSpan.FromSeconds(3);
    // What is committed late is so by moments, most of it: among the last so many it is looked for each time.
    private const int Recent = 500;
    // Looking at all of it is for what nobody told of, for a small share of the time.
    private const int Restraint = 100;
    private static readonly TimeSpan SweepEvery = TimeSpan.FromSeconds(30);

    private readonly Lock gate = new();
    // When each was, by a count: one that is settled again while it is looked for is looked for again.
    private readonly Dictionary<string, long> freed = new(StringComparer.Ordinal);
    private long settled;
    private long passed = place.Known, others;
    private long? askedAt, answeredAt;
    private int looks = Few;
    // All up to here was committed when it was looked at; and up to where that will be said, once every transaction has
    // ended that came before the other number.
    private long sure = place.Known;
    private (long Copy, long Transaction)? next;
    // What is looked at again, a part each time: up to where it is, and where it ends.
    private (long At, long End, bool IsAll)? again;
    // Whether keys may have turns: of a look that does not see them it is asked.
    private bool mayHaveTurns = true;
    private long sweepBegan, sweepAt = At(clock, SweepEvery);

    /// <summary>How far it has looked.</summary>
    public long Passed
    {
        get
        {
            lock (gate) return passed;
        }
    }

    /// <summary>The queue is in key order.</summary>
    public void Begin()
    {
        lock (gate) place.Pass(link, sure, sweepAt);
    }

    /// <summary>Nobody has these in hand any more, and what waits with them has to be looked for.</summary>
    public void Free(IEnumerable<string> keys)
    {
        lock (gate)
        {
            settled++;
            foreach (var key in keys) freed[key] = settled;
        }
    }

    /// <summary>What has come of a look is not known: all of it is looked at anew.</summary>
    public void Reset()
    {
        lock (gate)
        {
            (passed, sure, next, again) = (0, 0, null, null);
            place.Pass(link, sure, sweepAt);
        }
    }

    /// <summary>Adds to other statements what comes before a hand-over, and says where that begins.</summary>
    /// <param name="trip">Those.</param>
    /// <param name="credit">How many at the most; with 0 others are told of what they may have passed by.</param>
    /// <param name="isFromHead">Whether to look also at what was passed.</param>
    /// <param name="step">What is asked about the head of the queue along with it.</param>
    /// <param name="now">The time.</param>
    public Look Begin(RoundTrip trip, int credit, bool isFromHead, QueuePlace.Step? step, NpgsqlParameter now)
    {
        lock (gate)
        {
            var chunk = credit == 0 ? 0 : Math.Min(credit + looks, Most);
            var look = new Look(passed, [.. freed.Keys], settled, credit, step)
            {
                Chunk = chunk,
                Others = IsWithin(answeredAt, Believed) ? Math.Max(others, passed) + Margin : long.MaxValue,
                IsOfAll = isFromHead || mayHaveTurns || chunk > KeyOrderStatements.Short,
            };
            if (!IsWithin(askedAt, AskEvery)) Ask(trip, look, now);
            if (!isFromHead) return look;
            if (sweepAt <= clock.GetTimestamp()) BeginSweep(trip);
            look.Again = again;
            if (again is not null) look.Chunk = Math.Max(look.Chunk, Recent);
            if (sure < passed) look.RecentFrom = Math.Max(sure, passed - Recent);
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
            foreach (var key in look.Freed)
                if (freed.TryGetValue(key, out var at) && at <= look.Settled) freed.Remove(key);
            // It was begun before all was to be looked at anew.
            if (look.From > passed) return true;
            passed = Math.Max(passed, look.Passed);
            mayHaveTurns = look.MayHaveTurns || (look.Credit == 0 && mayHaveTurns);
            if (look.Chunk > 0) looks = found >= look.Credit ? Few : Math.Min(Most, 4 * looks);
            if (look.Again is { } range && again == range) GoOn(range, look);
            if (look.HasBuried) BeginSweep(null);
            else if (look.Step is { } step) Advance(step);
            place.Pass(link, sure, sweepAt);
            return look.IsOpen
                && (again is not null || freed.Count > 0 || (look.Chunk > 0 && look.Seen == look.Chunk));
        }
    }

    private void Ask(RoundTrip trip, Look look, NpgsqlParameter now)
    {
        var asked = Stopwatch.GetTimestamp();
        askedAt = asked;
        trip.Add(sql.Bury, _ => look.HasBuried = true, now, Parameter.Of(queue), Parameter.Of(link))
            .Add(sql.Passed, row => (others, answeredAt) = (row.GetInt64(0), asked), Parameter.Of(queue));
    }

    private static bool IsWithin(long? since, TimeSpan time) =>
        since is { } at && Stopwatch.GetElapsedTime(at) < time;

    private static long At(TimeProvider clock, TimeSpan later) =>
        clock.GetTimestamp() + (long)(later.TotalSeconds * clock.TimestampFrequency);

    private void BeginSweep(RoundTrip? trip)
    {
        trip?.Add(sql.ClearTurns, Parameter.Of(queue), Parameter.Of(place.Known));
        (again, sweepBegan, sweepAt) = ((place.From, passed, true), Stopwatch.GetTimestamp(), At(clock, SweepEvery));
        next = null;
    }

    private void GoOn((long At, long End, bool IsAll) range, Look look)
    {
        again = look.SeenAgain == look.Chunk && look.LastAgain < range.End
            ? (look.LastAgain!.Value, range.End, range.IsAll) : null;
        if (again is not null) return;
        if (!range.IsAll) sure = Math.Max(sure, range.End);
        else sweepAt = Math.Max(sweepAt, At(clock, Restraint * Stopwatch.GetElapsedTime(sweepBegan)));
    }

    /// <summary>
    /// Once all transactions have ended that were under way when copies were passed, those that came late among them
    /// are there, and are looked at.
    /// </summary>
    private void Advance(QueuePlace.Step step)
    {
        if (next is { } mark)
        {
            if (again is not null || step.Ended < mark.Transaction) return;
            (again, next) = ((sure, mark.Copy, false), null);
        }
        else if (passed > sure && again is null)
        {
            next = (passed, step.Upcoming);
        }
    }

    /// <summary>One look: where it begins, and what it has seen.</summary>
    internal sealed class Look(long from, string[] freed, long settled, int credit, QueuePlace.Step? step)
    {
        public long From => from;

        public string[] Freed => freed;

        /// <summary>The last of those that were freed before it.</summary>
        public long Settled => settled;

        public int Credit => credit;

        public QueuePlace.Step? Step => step;

        /// <summary>How many copies are looked at.</summary>
        public int Chunk { get; set; }

        /// <summary>Up to where others may have looked.</summary>
        public long Others { get; init; }

        /// <summary>The part of what was passed that is looked at again.</summary>
        public (long At, long End, bool IsAll)? Again { get; set; }

        /// <summary>What was passed is looked at from here on as well; null: it is not.</summary>
        public long? RecentFrom { get; set; }

        public bool HasBuried { get; set; }

        /// <summary>Whether the queue is not paused by hand.</summary>
        public bool IsOpen { get; private set; } = true;

        /// <summary>Whether turns are looked at, and what was passed; or only the line and keys.</summary>
        public bool IsOfAll { get; init; }

        public long Passed { get; private set; }

        public long? LastAgain { get; private set; }

        public long Seen { get; private set; }

        public long SeenAgain { get; private set; }

        /// <summary>Whether there is something for others, which nobody had told of.</summary>
        public bool HasTurned { get; private set; }

        /// <summary>Whether keys may have turns that it has not taken.</summary>
        public bool MayHaveTurns { get; private set; }

        /// <summary>Adds the hand-over.</summary>
        public void Add(RoundTrip trip, KeyOrderStatements sql, bool isAfterSettlement, Action<NpgsqlDataReader> row,
            NpgsqlParameter[] parameters)
        {
            parameters =
            [
                .. parameters, Parameter.Of(Freed), Parameter.Of(Chunk), Parameter.Of(Others),
                Parameter.Of(isAfterSettlement),
            ];
            if (!IsOfAll) trip.Add(sql.HandOverOfLine, row, parameters);
            else trip.Add(
                sql.HandOver, row,
                [.. parameters, Parameter.Of(Again?.At), Parameter.Of(Again?.End), Parameter.Of(RecentFrom)]);
        }

        /// <summary>Adds a statement in its place that takes nothing.</summary>
        public void AddTelling(RoundTrip trip, KeyOrderStatements sql, NpgsqlParameter now, int queue, long place) =>
            trip.Add(
                sql.Tell, row => MayHaveTurns = HasTurned = row.GetBoolean(0), now, Parameter.Of(queue),
                Parameter.Of(Freed), Parameter.Of(place), Parameter.Of(Math.Max(From, Others)));

        /// <summary>What is told with each row.</summary>
        public void Read(NpgsqlDataReader row)
        {
            (Passed, Seen, HasTurned) = (row.GetInt64(9), row.GetInt64(10), row.GetInt64(11) > 0);
            MayHaveTurns = HasTurned || row.GetBoolean(12);
            IsOpen = !row.IsDBNull(14) && row.GetBoolean(14);
            if (IsOfAll) (LastAgain, SeenAgain) = (row.IsDBNull(15) ? null : row.GetInt64(15), row.GetInt64(16));
        }
    }
}
