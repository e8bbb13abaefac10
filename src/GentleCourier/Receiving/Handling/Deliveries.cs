using System.Diagnostics;
using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// The deliveries of one queue, which links bring and handlers take up: its <see cref="Hand"/>, one caller at a time,
/// with the clock, and whoever waits for what comes of it. Thread-safe.
/// </summary>
internal sealed class Deliveries : IDisposable
{
    // What is decided gathers for so long after the last exchange, by the machine's own clock: it decides nothing but
    // what goes together.
    private static readonly TimeSpan Gathering = TimeSpan.FromMilliseconds(5);

    // No alarm is further away, since timers take no more than some weeks: another follows it.
    private static readonly TimeSpan LongestAlarm = TimeSpan.FromDays(1);

    private readonly Hand hand;
    private readonly TimeProvider clock;
    private readonly long began;
    private readonly Lock gate = new();
    private readonly SemaphoreSlim ready = new(0);
    private readonly List<LinkWait> links = [];
    private readonly CancellationTokenSource over = new();
    private readonly CancellationToken isOver;
    private volatile CancellationTokenSource held = new();
    private TimeSpan? tickAt;
    private long timestamp;

    public Deliveries(Prefetch prefetch, int parallel, int batch, AttemptCounts attempts, TimeProvider clock)
    {
        this.clock = clock;
        isOver = over.Token;
        began = clock.GetTimestamp();
        hand = new Hand(new Credit(prefetch, parallel, batch), PassedBy, attempts.Note);
    }

    /// <summary>How many deliveries are held, and how many of them are being handled.</summary>
    public Holding Now
    {
        get
        {
            lock (gate) return hand.Holding;
        }
    }

    /// <summary>Whether no handler ends in time.</summary>
    public bool IsStuck
    {
        get
        {
            lock (gate) return hand.Credit.IsStuck;
        }
    }

    /// <summary>Cancelled while nothing is to begin; to be asked for anew each time.</summary>
    public CancellationToken IsHeld => held.Token;

    /// <summary>See <see cref="Hand.Hold"/>.</summary>
    public void Hold(bool isHeld)
    {
        CancellationTokenSource? begins = null;
        using (Enter())
        {
            if (hand.Credit.IsHeld == isHeld) return;
            hand.Hold(isHeld);
            if (isHeld) begins = held;
            else held = new CancellationTokenSource();
        }
        begins?.Cancel();
    }

    /// <summary>See <see cref="Credit.Steer"/>.</summary>
    public void Steer(Prefetch prefetch, int parallel)
    {
        using var turn = Enter();
        hand.Credit.Steer(prefetch, parallel);
    }

    /// <summary>See <see cref="Hand.PutBack"/>.</summary>
    public void PutBack(IReadOnlyList<TakenDelivery> deliveries)
    {
        using var turn = Enter();
        hand.PutBack(deliveries, turn.Now);
    }

    /// <summary>A link that is to bring deliveries; until it is lost, or over.</summary>
    public LinkWait Open(LinkAccount account)
    {
        var link = new LinkWait(account, Woken);
        lock (gate) links.Add(link);
        return link;
    }

    /// <summary>It brings nothing more, and nobody waits for it.</summary>
    public void Close(LinkWait link)
    {
        lock (gate) links.Remove(link);
        link.Dispose();
    }

    /// <summary>See <see cref="Hand.Came"/>.</summary>
    public bool Came(LinkWait link, IReadOnlyList<TakenDelivery> deliveries, bool areSuspect)
    {
        using var turn = Enter();
        return hand.Came(link.Account, deliveries, areSuspect, turn.Now);
    }

    /// <summary>Waits until one lies ready, and takes it up.</summary>
    public async ValueTask<TakenDelivery> TakeUpAsync(CancellationToken cancellationToken)
    {
        while (true)
        {
            await ready.WaitAsync(cancellationToken).ConfigureAwait(false);
            if (TakeUp() is { } delivery) return delivery;
        }
    }

    /// <summary>See <see cref="Hand.Handled"/>.</summary>
    public void Handled(TimeSpan time, int count)
    {
        using var turn = Enter();
        hand.Handled(time, count, turn.Now);
    }

    /// <summary>See <see cref="Hand.Decide"/>.</summary>
    public void Decide(TakenDelivery delivery, Outcome? outcome)
    {
        using var turn = Enter();
        hand.Decide(delivery, outcome, turn.Now);
    }

    /// <summary>See <see cref="Hand.Doubt"/>.</summary>
    public void Doubt(TakenDelivery delivery, Doubt doubt)
    {
        using var turn = Enter();
        hand.Doubt(delivery, doubt, turn.Now);
    }

    /// <summary>See <see cref="Hand.Uphold"/>.</summary>
    public void Uphold(string type)
    {
        // Nearly always there is none, and every event asks.
        if (!hand.HasDoubts) return;
        using var turn = Enter();
        hand.Uphold(type, turn.Now);
    }

    /// <summary>See <see cref="Hand.Spare"/>.</summary>
    public void Spare(string type)
    {
        using var turn = Enter();
        hand.Spare(type, turn.Now);
    }

    /// <summary>See <see cref="Hand.End"/>.</summary>
    public void End()
    {
        using var turn = Enter();
        hand.End(turn.Now);
    }

    /// <summary>Nothing is to be fetched for this time; null: as usual. See <see cref="Credit.Pause"/>.</summary>
    public void Pause(TimeSpan? time)
    {
        using var turn = Enter();
        hand.Credit.Pause(time + turn.Now);
    }

    /// <summary>See <see cref="Credit.Stuck"/>.</summary>
    public void Stuck(int change)
    {
        using var turn = Enter();
        hand.Credit.Stuck(change);
    }

    /// <summary>See <see cref="Credit.Exchanged"/>.</summary>
    public void Exchanged(TimeSpan took)
    {
        lock (gate) hand.Credit.Exchanged(took);
    }

    /// <summary>See <see cref="Hand.Next"/>.</summary>
    public Step Next(LinkWait link, bool isReceiving)
    {
        using var turn = Enter();
        link.Account.IsReceiving = isReceiving;
        var step = hand.Next(link.Account, link.IsTime, turn.Now);
        if (step.Settles) link.LastTold = Stopwatch.GetTimestamp();
        return step;
    }

    /// <summary>Ends when <see cref="Next"/> has something to do.</summary>
    public Task Changed(LinkWait link, bool isReceiving)
    {
        Task changed;
        using (Enter())
        {
            link.Account.IsReceiving = isReceiving;
            changed = link.Wait();
        }
        return changed;
    }

    /// <summary>See <see cref="Hand.Told"/>.</summary>
    public void Told(LinkWait link, TakenDelivery? alone = null)
    {
        using var turn = Enter();
        hand.Told(link.Account, alone);
    }

    /// <summary>See <see cref="Hand.Lose"/>.</summary>
    public void Lose(LinkWait link)
    {
        using var turn = Enter();
        hand.Lose(link.Account);
    }

    /// <summary>See <see cref="Hand.Stop"/>.</summary>
    public void Stop(LinkWait link)
    {
        using var turn = Enter();
        hand.Stop(link.Account, turn.Now);
    }

    /// <summary>Whether something of it waits for what a handler makes of another.</summary>
    public bool IsFollowing(LinkWait link)
    {
        lock (gate) return link.Account.CountOf(DeliveryState.Following) > 0;
    }

    /// <summary>What has to be renewed.</summary>
    public List<TakenDelivery> Held(LinkWait link)
    {
        lock (gate) return link.Account.Held.Where(static d => !d.IsSettled).ToList();
    }

    public void Dispose()
    {
        over.Cancel();
        over.Dispose();
        held.Dispose();
        ready.Dispose();
    }

    private TakenDelivery? TakeUp()
    {
        using var turn = Enter();
        return hand.TakeUp(turn.Now);
    }

    private Outcome.Modified PassedBy(TakenDelivery delivery) => new Outcome.Modified(
        Redelivery.Later(clock.GetElapsedTime(delivery.Attempts.FirstTried, timestamp), Random.Shared.NextDouble()),
        "passed by: the brake of the queue is on") { Counts = false, WasTried = false };

    private void Woken()
    {
        using var turn = Enter();
    }

    private async Task LookAfterAsync(TimeSpan time, TimeSpan tick)
    {
        // Timers cut off parts of milliseconds, and would end at once again and again.
        var whole = TimeSpan.FromMilliseconds(
            Math.Clamp(Math.Ceiling(time.TotalMilliseconds), 0, LongestAlarm.TotalMilliseconds));
        await Task.Delay(whole, clock, isOver).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        if (isOver.IsCancellationRequested) return;
        using var turn = Enter();
        // It may have come a little early: then there is another, whatever it was for.
        if (tickAt == tick) tickAt = null;
        hand.Tick(turn.Now);
    }

    /// <summary>
    /// The lock, and the time. The clock is asked first: one that tests have made may run what waits for it, which may
    /// wait for somebody who waits for this lock.
    /// </summary>
    private Turn Enter()
    {
        var time = clock.GetTimestamp();
        gate.Enter();
        timestamp = time;
        return new Turn(this, clock.GetElapsedTime(began, time), hand.Readied);
    }

    /// <summary>Wakes whoever has waited for what has happened.</summary>
    private void Leave(TimeSpan now, long readied)
    {
        TimeSpan? next = null;
        try
        {
            foreach (var link in links)
            {
                if (!link.IsWaiting) continue;
                if (hand.HasNext(link.Account, link.IsTime, now)) link.Wake();
                else if (link.Account.Decided.Count > 0) link.WakeInTime();
            }
            readied = hand.Readied - readied;
            if (hand.NextTick(now) is { } at && !(tickAt <= at)) (tickAt, next) = (at, at);
        }
        finally
        {
            gate.Exit();
        }
        if (readied > 0 && !isOver.IsCancellationRequested) ready.Release((int)readied);
        if (next is { } tick) _ = LookAfterAsync(tick - now, tick);
    }

    private readonly ref struct Turn(Deliveries of, TimeSpan now, long readied)
    {
        public TimeSpan Now => now;

        public void Dispose() => of.Leave(now, readied);
    }

    /// <summary>One link, and its loop that waits.</summary>
    internal sealed class LinkWait(LinkAccount account, Action woken) : IDisposable
    {
        private TaskCompletionSource? waiting;
        private Timer? timer;
        private bool isTimed, isOver;

        public LinkAccount Account => account;

        /// <summary>When the broker was told last.</summary>
        public long LastTold { get; set; }

        public bool IsWaiting => waiting is not null;

        /// <summary>Whether what is decided has gathered for long enough.</summary>
        public bool IsTime => Left <= TimeSpan.Zero;

        private TimeSpan Left => Gathering - Stopwatch.GetElapsedTime(LastTold);

        public Task Wait() =>
            (waiting ??= new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously)).Task;

        public void Wake()
        {
            waiting?.TrySetResult();
            waiting = null;
        }

        public void WakeInTime()
        {
            if (isTimed || isOver) return;
            isTimed = true;
            timer ??= new Timer(
                static self => ((LinkWait)self!).TimeIsOver(), this, Timeout.Infinite, Timeout.Infinite);
            // Timers count whole milliseconds, and cut off the rest.
            timer.Change((int)Math.Max(1, Math.Ceiling(Left.TotalMilliseconds)), Timeout.Infinite);
        }

        public void Dispose()
        {
            isOver = true;
            timer?.Dispose();
        }

        private void TimeIsOver()
        {
            isTimed = false;
            woken();
        }
    }
}
