using System.Diagnostics;

namespace GentleCourier.Postgres;

/// <summary>
/// Up to which copy a queue is known to be empty, for all links of a process: looks at its head begin there. What is in
/// hand counts as there, so it follows no further than to the oldest event that is not settled. Thread-safe.
/// </summary>
internal sealed class QueuePlace(TimeProvider clock)
{
    // It need not follow at once: reading a few hundred rows that are dead costs next to nothing.
    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(250);

    private readonly Lock gate = new();
    private readonly Dictionary<long, (long Copy, long SweepAt)> passed = [];
    private Position position = new(0, clock);
    private long learnedAt;

    /// <summary>Up to where the queue is known to be empty.</summary>
    public long Known
    {
        get
        {
            lock (gate) return position.Place;
        }
    }

    /// <summary>Others have found it to be empty up to here.</summary>
    public void BeginAt(long place)
    {
        lock (gate)
            if (position.Place == 0) position = new(place, clock);
    }

    /// <summary>Where a look at the head begins; at 0 where it is time for that.</summary>
    public long From
    {
        get
        {
            lock (gate) return position.IsTimeForAll ? 0 : position.Place;
        }
    }

    /// <summary>
    /// In key order, up to where each link of this process has looked at it for good, and need not at present.
    /// </summary>
    public long Passed
    {
        get
        {
            var now = clock.GetTimestamp();
            lock (gate) return passed.Count == 0 ? 0 : passed.Values.Min(p => p.SweepAt <= now ? 0 : p.Copy);
        }
    }

    /// <summary>A link has looked at it up to here: nothing can come there any more.</summary>
    /// <param name="link">The link.</param>
    /// <param name="copy">Up to where.</param>
    /// <param name="sweepAt">When it is to look at all of it again, as a timestamp of the clock.</param>
    public void Pass(long link, long copy, long sweepAt)
    {
        lock (gate) passed[link] = (copy, sweepAt);
    }

    /// <summary>A link looks no more.</summary>
    public void Leave(long link)
    {
        lock (gate) passed.Remove(link);
    }

    /// <summary>A look that began at 0 has succeeded.</summary>
    public void LookedAtAll(TimeSpan took)
    {
        lock (gate) position.LookedAtAll(took);
    }

    /// <summary>What the place could follow to, if it is time to ask for that; the answer goes to its end.</summary>
    public Step? TryBegin()
    {
        lock (gate)
        {
            if (learnedAt > 0 && Stopwatch.GetElapsedTime(learnedAt) < Pause) return null;
            learnedAt = Stopwatch.GetTimestamp();
            return new Step(this, position.Place);
        }
    }

    /// <summary>One question how far the place may follow, asked around a look at the head.</summary>
    public sealed class Step(QueuePlace of, long place)
    {
        private long ended, upcoming;
        private long? first;

        public RoundTrip AddBefore(RoundTrip trip, BrokerStatements sql) =>
            trip.Add(sql.Ended, row => ended = row.GetInt64(0));

        public RoundTrip AddAfter(RoundTrip trip, BrokerStatements sql, int queue) => trip.Add(
            sql.Left, row => (first, upcoming) = (row.IsDBNull(0) ? null : row.GetInt64(0), row.GetInt64(1)),
            Parameter.Of(queue), Parameter.Of(place));

        /// <summary>Transactions before this one had ended before the look; known once it is answered.</summary>
        public long Ended => ended;

        /// <summary>The number of the next transaction, after the look.</summary>
        public long Upcoming => upcoming;

        /// <summary>It has been answered.</summary>
        /// <param name="highest">The last copy that has been seen; null where none has.</param>
        public void End(long? highest)
        {
            lock (of.gate)
            {
                // Another may have asked in the meantime, from a place further on: then this says nothing new.
                if (of.position.Place == place) of.position.Read(ended, first, first - 1 ?? highest, upcoming);
            }
        }
    }
}
