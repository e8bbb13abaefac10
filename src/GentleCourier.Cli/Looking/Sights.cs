using System.Runtime.CompilerServices;
using GentleCourier.ByHand;
using GentleCourier.Engines;

namespace GentleCourier.Cli;

/// <summary>A place in which events are, and can be looked at without being taken.</summary>
internal abstract class Sights
{
    protected const int Page = 500;

    /// <summary>The place, for people: <c>queue taps of …</c>.</summary>
    public abstract string Name { get; }

    /// <summary>What says in a line of JSON where the event is: a word, and the name.</summary>
    public abstract (string Kind, string Name) Mark { get; }

    /// <summary>What is there besides and cannot be shown, in words; known when it has been read.</summary>
    public string? NotShown { get; protected set; }

    /// <summary>The next first, page by page.</summary>
    /// <param name="most">How many are looked at, at the most.</param>
    /// <param name="cancel">Ends the reading.</param>
    public abstract IAsyncEnumerable<Seen> ReadAsync(int most, CancellationToken cancel);
}

/// <summary>The events of a queue.</summary>
internal sealed class QueueSights(IBroker broker, IBrokerReports reports, string queue) : Sights
{
    public override string Name => $"queue {queue} of {broker.DisplayName}";

    public override (string Kind, string Name) Mark => ("queue", queue);

    public override async IAsyncEnumerable<Seen> ReadAsync(
        int most, [EnumeratorCancellation] CancellationToken cancel)
    {
        string? beyond = null;
        for (var left = most; left > 0;)
        {
            var look = await reports.LookAsync(queue, Math.Min(Page, left), beyond, cancel);
            NotShown = look.NotShown;
            if (look.Events.Count == 0) yield break;
            foreach (var queued in look.Events) yield return Of(queued);
            (beyond, left) = (look.Events[^1].Place, left - look.Events.Count);
        }
    }

    private static Seen Of(QueuedEvent queued) => new(
        queued.State switch
        {
            QueuedState.InHand => Seen.InHand, QueuedState.Scheduled => Seen.Later, _ => Seen.Ready,
        },
        queued.Arrived, queued.Json)
    {
        Attempts = queued.Attempts, Until = queued.Until, Worker = queued.Worker, LastError = queued.LastError,
        History = queued.History,
    };
}

/// <summary>
/// The events of an outbox: that wait to be relayed, that are held or refused, and that are for later.
/// </summary>
internal sealed class OutboxSights(Named<IStorePort> store) : Sights
{
    public override string Name => $"the outbox of {store.Port.DisplayName}";

    public override (string Kind, string Name) Mark => ("outbox", store.Name);

    public override IAsyncEnumerable<Seen> ReadAsync(int most, CancellationToken cancel) =>
        WaitingAsync(cancel).Concat(HeldAsync(cancel)).Concat(LaterAsync(cancel)).Take(most);

    private async IAsyncEnumerable<Seen> WaitingAsync([EnumeratorCancellation] CancellationToken cancel)
    {
        for (var after = long.MinValue; ;)
        {
            var page = await store.Port.Waiting.ReadAsync(Page, after, cancel);
            if (page.Count == 0) yield break;
            foreach (var waiting in page) yield return new Seen(Seen.Waiting, waiting.Added, waiting.Json);
            after = page[^1].Row;
        }
    }

    private async IAsyncEnumerable<Seen> HeldAsync([EnumeratorCancellation] CancellationToken cancel)
    {
        for (var after = 0L; ;)
        {
            var page = await store.Port.Held.ReadHeldAsync(Page, after, cancel);
            if (page.Count == 0) yield break;
            foreach (var held in page)
            {
                yield return new Seen(held.Due is null ? Seen.Refused : Seen.Held, held.Added, held.Json)
                {
                    Attempts = held.Attempts, Until = held.Due, LastError = held.LastError,
                };
            }
            after = page[^1].Row;
        }
    }

    private async IAsyncEnumerable<Seen> LaterAsync([EnumeratorCancellation] CancellationToken cancel)
    {
        for (LaterEvent? after = null; ;)
        {
            var page = await store.Port.LaterEvents.ReadAsync(new LaterFilter(), Page, after, null, cancel);
            if (page.Count == 0) yield break;
            foreach (var later in page)
                yield return new Seen(Seen.Later, later.Added, later.Json) { Until = later.Due };
            after = page[^1];
        }
    }
}
