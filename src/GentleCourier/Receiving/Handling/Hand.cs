using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// What a worker has in hand of one queue: the one owner of its deliveries. Each is in one <see cref="DeliveryState"/>,
/// and only <see cref="Move"/> changes that; how many there are of each is reckoned there, and what to fetch and to
/// give back follows from it (<see cref="Credit"/>). No clock, no lock, no I/O: it is told the time, and what has
/// happened; <see cref="Deliveries"/> stands around it.
/// </summary>
/// <param name="credit">How much may be in hand.</param>
/// <param name="passBy">What becomes of what is passed by in a pause.</param>
/// <param name="decided">Is told what comes of each.</param>
internal sealed class Hand(
    Credit credit, Func<TakenDelivery, Outcome> passBy, Action<TakenDelivery, Outcome> decided)
{
    /// <summary>
    /// So many may wait for their next attempts beside what the prefetch allows, of each link; beyond that, events come
    /// again without a delay.
    /// </summary>
    public const int MostWaiting = 1_000;

    /// <summary>How long it may be in doubt where nothing else is at work, and how long at the most.</summary>
    public static readonly TimeSpan Quiet = TimeSpan.FromMilliseconds(500), LongestDoubt = TimeSpan.FromSeconds(30);

    private readonly int[] counts = new int[DeliveryStates.Count];
    private readonly Queue<TakenDelivery> ready = new();
    private readonly List<TakenDelivery> inDoubt = [], following = [];
    private readonly PriorityQueue<TakenDelivery, TimeSpan> timed = new();
    // What handlers still have though the link that it came by is gone: a peer that pushes gives it again, maybe to
    // this very process. Without an inbox it would act twice.
    private readonly Dictionary<EventKey, TakenDelivery> orphans = [];
    private bool isEnding;
    private long bytes;

    /// <summary>How much may be in hand.</summary>
    public Credit Credit => credit;

    /// <summary>How many are held: what waits here beside the prefetch does not count.</summary>
    public Holding Holding => new(
        counts[(int)DeliveryState.Ready] + counts[(int)DeliveryState.Running] + counts[(int)DeliveryState.Decided]
        + counts[(int)DeliveryState.Sent], counts[(int)DeliveryState.Ready], Busy)
    {
        Bytes = bytes,
    };

    /// <summary>How many deliveries handlers have taken up and not come back from.</summary>
    public int Busy { get; private set; }

    /// <summary>How often one has become ready.</summary>
    public long Readied { get; private set; }

    /// <summary>Whether any is in doubt.</summary>
    public bool HasDoubts => inDoubt.Count > 0;

    /// <summary>
    /// When time alone changes something next, so that <see cref="Tick"/> is to be called; null: nothing waits for it.
    /// </summary>
    public TimeSpan? NextTick(TimeSpan now)
    {
        var pause = now + credit.PausedFor(now);
        return timed.TryPeek(out _, out var at) && !(pause < at) ? at : pause;
    }

    public int CountOf(DeliveryState state) => counts[(int)state];

    /// <summary>
    /// A link has brought deliveries. One in whose hands workers have died is handled when nothing else is in hand, so
    /// that it takes no others with it: they would run out of attempts along with it.
    /// </summary>
    /// <returns>False: they go back at once, to come one by one.</returns>
    public bool Came(LinkAccount link, IReadOnlyList<TakenDelivery> deliveries, bool areSuspect, TimeSpan now)
    {
        if (link.IsLost) return true;
        var isAlone = deliveries.Count == 1 && link.Held.Count == 0 && Holding.Held == 0;
        var isRefused = areSuspect && !isAlone;
        if (isRefused) credit.Refused();
        else credit.Fetched(deliveries.Count, alone: areSuspect);
        foreach (var delivery in deliveries)
        {
            link.Held.Add(delivery);
            if (isRefused || link.IsOver) Decide(delivery, Outcome.Released, now);
            else if (OrphanOf(delivery) is { } first) Follow(delivery, first);
            else BeReady(delivery);
        }
        link.IsUrgent |= isRefused;
        return !isRefused;
    }

    /// <summary>A handler takes the next one up; null where none lies ready.</summary>
    public TakenDelivery? TakeUp(TimeSpan now)
    {
        if (credit.IsHeld) return null;
        while (ready.TryDequeue(out var delivery))
        {
            if (delivery.State != DeliveryState.Ready) continue;
            Move(delivery, DeliveryState.Running);
            Busy++;
            credit.Started(now);
            return delivery;
        }
        return null;
    }

    /// <summary>Those are not begun here after all: another handler takes them up.</summary>
    public void PutBack(IReadOnlyList<TakenDelivery> deliveries, TimeSpan now)
    {
        Busy -= deliveries.Count;
        foreach (var delivery in deliveries)
        {
            // One whose link is gone comes again by another.
            if (delivery.Link.IsLost) Decide(delivery, null, now);
            else if (delivery.State == DeliveryState.Running) BeReady(delivery);
        }
    }

    /// <summary>
    /// Nothing is begun until further notice, and what lies ready goes back; or it is begun again.
    /// </summary>
    public void Hold(bool isHeld)
    {
        if (credit.IsHeld && !isHeld) Readied += CountOf(DeliveryState.Ready);
        credit.IsHeld = isHeld;
    }

    /// <summary>A handler is back, from so many that it has had for so long.</summary>
    public void Handled(TimeSpan time, int count, TimeSpan now)
    {
        Busy -= count;
        credit.Handled(time, count, now);
    }

    /// <summary>What comes of it is decided; null: it belongs to another by now. Only the first time counts.</summary>
    public bool Decide(TakenDelivery delivery, Outcome? outcome, TimeSpan now)
    {
        if (delivery.IsDecided) return false;
        if (delivery.State == DeliveryState.InDoubt) inDoubt.Remove(delivery);
        var link = delivery.Link;
        delivery.Outcome = outcome;
        if (outcome is not null) decided(delivery, outcome);
        if (outcome is null || link.IsLost || delivery.IsSettled)
        {
            Leave(delivery);
        }
        else if (outcome is Outcome.Modified { Delay: var delay } modified && delay > TimeSpan.Zero && link.HoldsDelays
            && !link.IsOver && link.CountOf(DeliveryState.Waiting) < MostWaiting)
        {
            Wait(delivery, modified, now + delay);
        }
        else
        {
            Move(delivery, DeliveryState.Decided);
            link.Decided.Add(delivery);
        }
        if (following.Count > 0) Lead(delivery, now);
        return true;
    }

    /// <summary>
    /// It is to be set aside, unless it turns out that others fail like it: until another event of its type is handled,
    /// or a brake comes on, or nothing more is heard.
    /// </summary>
    public void Doubt(TakenDelivery delivery, Doubt doubt, TimeSpan now)
    {
        if (delivery.State != DeliveryState.Running || isEnding)
        {
            Decide(delivery, doubt.Spared, now);
            return;
        }
        Move(delivery, DeliveryState.InDoubt);
        (delivery.Doubt, delivery.Since) = (doubt, now);
        inDoubt.Add(delivery);
        timed.Enqueue(delivery, now + Quiet);
    }

    /// <summary>Another event of this type has been handled: those that failed did so by themselves.</summary>
    public void Uphold(string type, TimeSpan now) => EndDoubts(d => d.Type == type, d => d.Rejected, now);

    /// <summary>All events of this type fail alike: those are not to blame.</summary>
    public void Spare(string type, TimeSpan now) => EndDoubts(d => d.Type == type, d => d.Spared, now);

    /// <summary>No handler takes up anything more: what is in doubt comes again, and others will know.</summary>
    public void End(TimeSpan now)
    {
        isEnding = true;
        EndDoubts(_ => true, d => d.Spared, now);
    }

    /// <summary>Time has passed: what waits falls due, and doubts end.</summary>
    public void Tick(TimeSpan now)
    {
        while (timed.TryPeek(out var delivery, out var at) && at <= now)
        {
            timed.Dequeue();
            if (delivery.State == DeliveryState.Waiting)
                BeReady(delivery);
            else if (delivery.State != DeliveryState.InDoubt)
                continue;
            else if (now - delivery.Since >= LongestDoubt || !credit.IsAtWork(Holding, Quiet, now))
                Decide(delivery, delivery.Doubt!.Rejected, now);
            else
                timed.Enqueue(delivery, now + Quiet);
        }
    }

    /// <summary>
    /// What a link is to do. What has not been begun, and need not wait here, is decided: others can begin it sooner.
    /// In a pause nobody is to: it is passed by, so that the next to be tried is another.
    /// </summary>
    /// <param name="link">The link.</param>
    /// <param name="isTime">Whether what has been decided has gathered for long enough.</param>
    /// <param name="now">The time.</param>
    public Step Next(LinkAccount link, bool isTime, TimeSpan now)
    {
        var isPaused = credit.PausedFor(now) is not null;
        var surplus = SurplusOf(link, now);
        if (surplus > 0) GiveBack(link, surplus, isPaused && !link.IsOver, now);
        if (link.Sent.Count > 0 || link.IsOver || IsWorthTelling(link, isTime, now)) Send(link);
        var step = new Step
        {
            EndsReceiving = credit.IsHeld && link is { IsReceiving: true, IsEnding: false },
            Withdraws = isPaused || surplus > 0 || MayBringTooMuch(link, now), Settles = link.Sent.Count > 0,
        };
        link.IsEnding |= step.EndsReceiving;
        link.MayBring &= !step.Withdraws || link.IsReceiving;
        if (!link.IsReceiving && !link.IsOver)
            step = step.Settles ? step with { Fetches = credit.WorthFetching(Holding, link.Sent.Count, now) }
                : step with { Receives = Needed(link, now) };
        link.MayBring |= link.BringsByItself && step is not { Fetches: 0, Receives: 0 };
        return step with
        {
            LooksAgain = credit.IsSelfTuned && (CountOf(DeliveryState.Ready) > 0 || (link.MayBring && Busy > 0)),
        };
    }

    /// <summary>Whether <see cref="Next"/> has something to do for it.</summary>
    public bool HasNext(LinkAccount link, bool isTime, TimeSpan now) => SurplusOf(link, now) > 0
        || IsWorthTelling(link, isTime, now) || (!link.IsReceiving && !link.IsOver && Needed(link, now) > 0)
        || MayBringTooMuch(link, now) || (credit.IsHeld && link is { IsReceiving: true, IsEnding: false });

    /// <summary>The broker has been told of what was sent; or of this one of it.</summary>
    public void Told(LinkAccount link, TakenDelivery? alone = null)
    {
        // The link may have been lost meanwhile.
        foreach (var delivery in link.Sent)
            if (delivery.State == DeliveryState.Sent && (alone is null || delivery == alone)) Leave(delivery);
        link.Sent.RemoveAll(static d => d.State == DeliveryState.Gone);
        link.IsUrgent &= link.Sent.Count > 0;
    }

    /// <summary>
    /// A link is lost: what handlers have is theirs to finish, and everything else comes again by another link.
    /// </summary>
    public void Lose(LinkAccount link)
    {
        link.IsLost = true;
        foreach (var delivery in link.Held.ToList())
        {
            if (delivery.State is not (DeliveryState.Running or DeliveryState.InDoubt)) Leave(delivery);
            // Nobody can find what cannot be read.
            else if (!delivery.IsSettled && delivery.Key is { } key) orphans.TryAdd(key, delivery);
        }
        following.RemoveAll(static f => f.State == DeliveryState.Gone);
        // What is gone is not to be kept in memory until its time.
        var awaited = timed.UnorderedItems.Where(static t => !t.Element.IsDecided).ToList();
        timed.Clear();
        timed.EnqueueRange(awaited);
        for (var left = ready.Count; left > 0; left--)
            if (ready.Dequeue() is { State: DeliveryState.Ready } delivery) ready.Enqueue(delivery);
    }

    /// <summary>The host stops: what waits goes back, and so does what comes from now on.</summary>
    public void Stop(LinkAccount link, TimeSpan now)
    {
        link.IsOver = true;
        foreach (var delivery in link.Held.Where(static d => d.State == DeliveryState.Waiting).ToList())
            Decide(delivery, Outcome.Released, now);
    }

    private int SurplusOf(LinkAccount link, TimeSpan now) => link.CountOf(DeliveryState.Ready) is var own && own == 0
        ? 0 : link.IsOver ? own : Math.Min(own, credit.Surplus(Holding, now));

    /// <summary>
    /// What it was asked for may have come since, or comes yet, and nobody is to have it here: a handler that was
    /// thought short is long, handlers are stuck, or there is a pause. Others can begin it.
    /// </summary>
    private bool MayBringTooMuch(LinkAccount link, TimeSpan now) => link.MayBring && !link.IsReceiving
        && (credit.IsHeld || credit.IsStuck || credit.PausedFor(now) is not null || (credit.IsSelfTuned && Busy > 0
            && CountOf(DeliveryState.Ready) == 0 && Needed(link, now) == 0));

    private int Needed(LinkAccount link, TimeSpan now) =>
        link.IsBeside ? credit.NeededBeside(Holding, now) : credit.NeededNow(Holding, now);

    private bool IsWorthTelling(LinkAccount link, bool isTime, TimeSpan now) => link.Decided.Count > 0
        && (link.IsUrgent || isTime || link.Decided.Count >= Math.Min(
            PrefetchTuner.Most, credit.WorthSettling(Holding, now, link.BringsByItself)));

    private void GiveBack(LinkAccount link, int most, bool passesBy, TimeSpan now)
    {
        for (var left = ready.Count; left > 0; left--)
        {
            var delivery = ready.Dequeue();
            if (delivery.State != DeliveryState.Ready) continue;
            if (delivery.Link != link || most == 0)
            {
                ready.Enqueue(delivery);
                continue;
            }
            most--;
            Decide(delivery, passesBy ? passBy(delivery) : Outcome.Released, now);
            link.IsUrgent = true;
        }
    }

    private void Send(LinkAccount link)
    {
        foreach (var delivery in link.Decided) Move(delivery, DeliveryState.Sent);
        link.Sent.AddRange(link.Decided);
        link.Decided.Clear();
    }

    private void BeReady(TakenDelivery delivery)
    {
        Move(delivery, DeliveryState.Ready);
        ready.Enqueue(delivery);
        Readied++;
    }

    /// <summary>From now on another stands for it.</summary>
    private void Wait(TakenDelivery delivery, Outcome.Modified outcome, TimeSpan due)
    {
        var next = delivery.Again(outcome);
        Leave(delivery);
        next.Link.Held.Add(next);
        Move(next, DeliveryState.Waiting);
        timed.Enqueue(next, due);
    }

    private void Leave(TakenDelivery delivery)
    {
        Move(delivery, DeliveryState.Gone);
        delivery.Link.Held.Remove(delivery);
    }

    private TakenDelivery? OrphanOf(TakenDelivery delivery) =>
        orphans.Count > 0 && delivery.Key is { } key ? orphans.GetValueOrDefault(key) : null;

    private void Follow(TakenDelivery delivery, TakenDelivery first)
    {
        delivery.First = first;
        Move(delivery, DeliveryState.Following);
        following.Add(delivery);
    }

    /// <summary>What follows it takes over its outcome; where that is none, it is begun.</summary>
    private void Lead(TakenDelivery first, TimeSpan now)
    {
        var led = following.FindAll(f => f.First == first);
        following.RemoveAll(led.Contains);
        foreach (var delivery in led)
        {
            if (first.Outcome is null or Outcome.ReleasedOutcome && !delivery.Link.IsOver) BeReady(delivery);
            else Decide(delivery, first.Outcome ?? Outcome.Released, now);
        }
    }

    private void EndDoubts(Func<Doubt, bool> which, Func<Doubt, Outcome> outcome, TimeSpan now)
    {
        foreach (var delivery in inDoubt.FindAll(d => which(d.Doubt!))) Decide(delivery, outcome(delivery.Doubt!), now);
    }

    private void Move(TakenDelivery delivery, DeliveryState to)
    {
        var from = delivery.State;
        if (!DeliveryStates.MayFollow(from, to))
            throw new InvalidOperationException($"a delivery that was {from} cannot be {to}");
        Count(delivery.Link, from, -1);
        Count(delivery.Link, to, 1);
        CountBytes(delivery, from, to);
        delivery.State = to;
        if (orphans.Count > 0 && to >= DeliveryState.Decided && delivery.Key is { } key
            && orphans.TryGetValue(key, out var orphan) && orphan == delivery)
            orphans.Remove(key);
    }

    private void Count(LinkAccount link, DeliveryState state, int change)
    {
        if (state is DeliveryState.Coming or DeliveryState.Gone) return;
        counts[(int)state] += change;
        link.Count(state, change);
    }

    private void CountBytes(TakenDelivery delivery, DeliveryState from, DeliveryState to)
    {
        if (from == DeliveryState.Coming) bytes += delivery.HandOver.Json.Length;
        if (to == DeliveryState.Gone) bytes -= delivery.HandOver.Json.Length;
    }
}

/// <summary>
/// How many deliveries are held, how many of them lie ready, how many handlers have, and how many bytes all have.
/// </summary>
internal readonly record struct Holding(int Held, int Ready, int Running)
{
    public long Bytes { get; init; }
}

/// <summary>What comes of a delivery if it turns out to be at fault, and what if not.</summary>
/// <param name="Type">The type of its event.</param>
/// <param name="Rejected">If it is.</param>
/// <param name="Spared">If all of its type fail alike.</param>
internal sealed record Doubt(string Type, Outcome Rejected, Outcome Spared);

/// <summary>What a link is to do next.</summary>
internal readonly record struct Step
{
    /// <summary>What a peer has pushed, and nobody has been given, goes back.</summary>
    public bool Withdraws { get; init; }

    /// <summary>Nobody is to wait for deliveries any longer.</summary>
    public bool EndsReceiving { get; init; }

    /// <summary>Whether to tell the broker of what is <see cref="LinkAccount.Sent"/>.</summary>
    public bool Settles { get; init; }

    /// <summary>How many to fetch along with that.</summary>
    public int Fetches { get; init; }

    /// <summary>How many to wait for.</summary>
    public int Receives { get; init; }

    /// <summary>Whether to look again after a while, though nothing happens: what was learned may be over.</summary>
    public bool LooksAgain { get; init; }
}

/// <summary>What has come by one link; only its <see cref="Hand"/> changes it.</summary>
internal sealed class LinkAccount
{
    private readonly int[] counts = new int[DeliveryStates.Count];

    /// <summary>Whether there is another, from which most comes.</summary>
    public bool IsBeside { get; init; }

    /// <summary>Whether it brings what there is by itself, as long as it has credit.</summary>
    public bool BringsByItself { get; init; }

    /// <summary>Whether what is to come again after a time has to wait here: the broker has no delays.</summary>
    public bool HoldsDelays { get; init; }

    /// <summary>Whom handlers tell.</summary>
    public required ISettler Settler { get; init; }

    /// <summary>All that is not gone.</summary>
    public HashSet<TakenDelivery> Held { get; } = [];

    /// <summary>Of what the broker is yet to be told, and of what it is being told.</summary>
    public List<TakenDelivery> Decided { get; } = [];

    public List<TakenDelivery> Sent { get; } = [];

    /// <summary>Whether it waits for deliveries.</summary>
    public bool IsReceiving
    {
        get;
        set
        {
            field = value;
            IsEnding &= value;
        }
    }

    /// <summary>Whether it has been told to wait no longer.</summary>
    public bool IsEnding { get; set; }

    /// <summary>Whether some that it was asked for may lie with it, or be on their way, though nobody waits.</summary>
    public bool MayBring { get; set; }

    /// <summary>The host stops.</summary>
    public bool IsOver { get; set; }

    public bool IsLost { get; set; }

    /// <summary>Whether what is decided is worth an exchange by itself.</summary>
    public bool IsUrgent { get; set; }

    public int CountOf(DeliveryState state) => counts[(int)state];

    public void Count(DeliveryState state, int change) => counts[(int)state] += change;
}
