using GentleCourier.Engines;

namespace GentleCourier.Receiving.Handling;

/// <summary>
/// Events that are to be set aside, for the moment in which it is not yet clear whether they are at fault or all that
/// is tried now fails like them: until another event is handled, or a brake comes on, or nothing more is heard.
/// Thread-safe.
/// </summary>
internal sealed class Verdicts(Credit credit, TimeProvider clock)
{
    /// <summary>How long they wait where nothing else is at work, and how long at the most.</summary>
    public static readonly TimeSpan Quiet = TimeSpan.FromMilliseconds(500), Longest = TimeSpan.FromSeconds(30);

    private readonly Lock gate = new();
    private readonly List<Case> open = [];
    private volatile bool any, isOver;

    /// <summary>It is to be set aside, unless it turns out that others fail like it.</summary>
    /// <param name="delivery">The delivery; it no longer counts as held until it is decided.</param>
    /// <param name="rejected">Its outcome if it is at fault.</param>
    /// <param name="spared">And if not.</param>
    public void Await(ReadDelivery delivery, Outcome rejected, Outcome spared)
    {
        if (isOver)
        {
            delivery.Taken.Settle(spared);
            return;
        }
        delivery.Taken.IsInDoubt = true;
        var @case = new Case(delivery, rejected, spared);
        lock (gate)
        {
            open.Add(@case);
            any = true;
        }
        credit.Parked();
        if (isOver) End();
        else _ = UpholdInTimeAsync(@case);
    }

    /// <summary>Another event of this type has been handled: those that failed did so by themselves.</summary>
    public void Uphold(string type)
    {
        if (any) Uphold(c => c.Delivery.Event.Type == type);
    }

    /// <summary>All events of this type fail alike: those are not to blame.</summary>
    public void Spare(string type) => Decide(c => c.Delivery.Event.Type == type, c => c.Spared);

    /// <summary>There is no more time to learn anything: they come again, and others will know.</summary>
    public void End()
    {
        isOver = true;
        Decide(_ => true, c => c.Spared);
    }

    private void Uphold(Func<Case, bool> which) => Decide(which, c => c.Rejected);

    private async Task UpholdInTimeAsync(Case @case)
    {
        for (var waited = TimeSpan.Zero; waited < Longest; waited += Quiet)
        {
            await Task.Delay(Quiet, clock).ConfigureAwait(false);
            if (@case.Delivery.Taken.IsDecided) return;
            if (!credit.IsAtWork(within: Quiet)) break;
        }
        Uphold(c => c == @case);
    }

    private void Decide(Func<Case, bool> which, Func<Case, Outcome> outcome)
    {
        List<Case> decided;
        lock (gate)
        {
            decided = open.FindAll(c => which(c));
            open.RemoveAll(decided.Contains);
            any = open.Count > 0;
        }
        foreach (var @case in decided)
        {
            credit.Unparked();
            @case.Delivery.Taken.Settle(outcome(@case));
        }
    }

    private sealed record Case(ReadDelivery Delivery, Outcome Rejected, Outcome Spared);
}
