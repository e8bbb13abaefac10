namespace GentleCourier.Testing;

/// <summary>
/// A clock that stands until it is moved. What the library does by itself and what the application does have a face
/// each, so that it is known whose timers are whose. Thread-safe.
/// </summary>
internal sealed class TrialClock
{
    private readonly Lock gate = new();
    private readonly SortedSet<TrialTimer> timers = new(TrialTimer.ByTime);
    private readonly DateTimeOffset began;
    private TimeSpan now = TimeSpan.FromHours(1);
    private long made, set;
    private int held;
    private bool isFree;

    public TrialClock(DateTimeOffset start)
    {
        // Tables keep whole milliseconds.
        var whole = start.UtcTicks - (start.UtcTicks % TimeSpan.TicksPerMillisecond);
        began = new DateTimeOffset(whole, TimeSpan.Zero) - now;
        Library = new Face(this);
        Aside = new Face(this);
        Application = new Face(this);
    }

    /// <summary>For what the library does by itself, where an event waits for it.</summary>
    public TimeProvider Library { get; }

    /// <summary>For what the library looks for now and then.</summary>
    public TimeProvider Aside { get; }

    /// <summary>For the application's own code.</summary>
    public TimeProvider Application { get; }

    public DateTimeOffset Now => began + Elapsed;

    private TimeSpan Elapsed
    {
        get
        {
            lock (gate) return now;
        }
    }

    /// <summary>
    /// When the next timer falls due; null where there is none. Of the library's those that are set once: no event
    /// waits for what ticks again and again.
    /// </summary>
    public DateTimeOffset? Next(TimeProvider face)
    {
        lock (gate)
        {
            foreach (var timer in timers)
                if (timer.Face == face && (face == Application || !timer.IsPeriodic)) return began + timer.Due;
            return null;
        }
    }

    /// <summary>How often the application has set a timer.</summary>
    public long Set
    {
        get
        {
            lock (gate) return set;
        }
    }

    /// <summary>It stands, until it is released as often.</summary>
    public void Hold()
    {
        lock (gate) held++;
    }

    /// <summary>It may move again.</summary>
    public void Release()
    {
        lock (gate) held--;
    }

    /// <summary>From here on nothing holds it.</summary>
    public void Free()
    {
        lock (gate) isFree = true;
    }

    /// <summary>
    /// Moves on, and never back: what is due by then fires, once each, on threads of its own.
    /// </summary>
    /// <returns>False: it is held, and has not moved.</returns>
    public bool MoveTo(DateTimeOffset time)
    {
        var due = new List<TrialTimer>();
        lock (gate)
        {
            if (held > 0 && !isFree) return false;
            if (time - began is var target && target > now) now = target;
            while (timers.Min is { } first && first.Due <= now)
            {
                timers.Remove(first);
                due.Add(first);
                if (!first.IsPeriodic) continue;
                first.Due = now + first.Period;
                timers.Add(first);
            }
        }
        due.ForEach(static timer => timer.Fire());
        return true;
    }

    private bool Change(TrialTimer timer, TimeSpan dueTime, TimeSpan period)
    {
        lock (gate)
        {
            if (timer.IsOver) return false;
            timers.Remove(timer);
            timer.Period = period;
            if (timer.Face == Application) set++;
            if (dueTime == Timeout.InfiniteTimeSpan) return true;
            timer.Due = now + dueTime;
            if (dueTime > TimeSpan.Zero)
            {
                timers.Add(timer);
                return true;
            }
            if (timer.IsPeriodic)
            {
                timer.Due = now + period;
                timers.Add(timer);
            }
        }
        timer.Fire();
        return true;
    }

    private void End(TrialTimer timer)
    {
        lock (gate)
        {
            timers.Remove(timer);
            timer.IsOver = true;
        }
    }

    private sealed class Face(TrialClock clock) : TimeProvider
    {
        public override long TimestampFrequency => TimeSpan.TicksPerSecond;

        public override TimeZoneInfo LocalTimeZone => TimeZoneInfo.Utc;

        public override DateTimeOffset GetUtcNow() => clock.Now;

        public override long GetTimestamp() => clock.Elapsed.Ticks;

        public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period)
        {
            ArgumentNullException.ThrowIfNull(callback);
            var timer = new TrialTimer(clock, this, Interlocked.Increment(ref clock.made), callback, state);
            clock.Change(timer, dueTime, period);
            return timer;
        }
    }

    private sealed class TrialTimer(TrialClock clock, TimeProvider face, long number, TimerCallback call, object? state)
        : ITimer
    {
        public static readonly IComparer<TrialTimer> ByTime = Comparer<TrialTimer>.Create(
            static (x, y) => x.Due != y.Due ? x.Due.CompareTo(y.Due) : x.Number.CompareTo(y.Number));

        private readonly ExecutionContext? context = ExecutionContext.Capture();

        public long Number { get; } = number;

        public TimeProvider Face => face;

        public TimeSpan Due { get; set; }

        public TimeSpan Period { get; set; } = Timeout.InfiniteTimeSpan;

        public bool IsPeriodic => Period > TimeSpan.Zero;

        public bool IsOver { get; set; }

        public bool Change(TimeSpan dueTime, TimeSpan period) => clock.Change(this, dueTime, period);

        // Not on the thread that moves the clock: what goes on from here may wait for it.
        public void Fire() => ThreadPool.UnsafeQueueUserWorkItem(
            static timer =>
            {
                if (timer.IsOver) return;
                if (timer.context is null) timer.Call();
                else ExecutionContext.Run(timer.context, static self => ((TrialTimer)self!).Call(), timer);
            }, this, preferLocal: false);

        public void Dispose() => clock.End(this);

        public ValueTask DisposeAsync()
        {
            Dispose();
            return ValueTask.CompletedTask;
        }

        private void Call() => call(state);
    }
}
