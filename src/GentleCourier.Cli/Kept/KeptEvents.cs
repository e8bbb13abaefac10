using System.Runtime.CompilerServices;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary>An event that was kept aside, wherever that is.</summary>
/// <param name="Id">Its id there.</param>
/// <param name="Place">Its queue; in an outbox whether it is held or refused.</param>
/// <param name="Reason">Why, in one line.</param>
/// <param name="Failure">The exception behind it, if there was one.</param>
/// <param name="Attempts">How often it was tried.</param>
/// <param name="Since">Since when.</param>
/// <param name="Json">The event.</param>
/// <param name="Origin">What was read.</param>
internal sealed record Kept(
    string Id, string Place, string Reason, Failure? Failure, int Attempts, DateTimeOffset Since,
    ReadOnlyMemory<byte> Json, object Origin)
{
    /// <summary>The event; null where it cannot be read.</summary>
    public CourierEvent? Event { get; } = EventLines.TryRead(Json);

    public FailureCause Cause { get; } = FailureCause.Of(Place, Json, Failure, Reason);
}

/// <summary>What has become of it, and what is still to become of it: a repair, or none.</summary>
internal readonly record struct KeptReturn(Kept Kept, ReadOnlyMemory<byte>? Repaired = null);

/// <summary>Events that were kept aside in one place, and what can be done with them there.</summary>
internal abstract class KeptEvents : IAsyncDisposable
{
    protected const int Page = 500;

    /// <summary>Where it is.</summary>
    public abstract string DisplayName { get; }

    public abstract KeptWords Words { get; }

    /// <summary>What else there is, and where to look for it; null: nothing.</summary>
    public virtual Task<string?> BesidesAsync(CancellationToken cancel) => Task.FromResult<string?>(null);

    /// <summary>The oldest first, page by page.</summary>
    public abstract IAsyncEnumerable<Kept> ReadAsync(string? queue, CancellationToken cancel);

    public abstract Task<Kept?> FindAsync(string id, CancellationToken cancel);

    public abstract Task<IReadOnlyList<bool>> ReturnAsync(IReadOnlyList<KeptReturn> events, CancellationToken cancel);

    public abstract Task<IReadOnlyList<bool>> DiscardAsync(IReadOnlyList<Kept> events, CancellationToken cancel);

    public abstract ValueTask DisposeAsync();
}

/// <summary>How people call what is kept in a place.</summary>
/// <param name="One">One of them.</param>
/// <param name="Many">Several.</param>
/// <param name="Id">The argument that names one.</param>
/// <param name="Command">The command for them.</param>
/// <param name="Return">The command that gives them back.</param>
/// <param name="Returned">What has been done then.</param>
/// <param name="IdName">What its id is called in an exported line.</param>
internal sealed record KeptWords(
    string One, string Many, string Id, string Command, string Return, string Returned, string IdName)
{
    /// <summary>Several of them, told apart from others that are there.</summary>
    public string Kind { get; init; } = Many;

    public string Count(long count) => count == 1 ? $"1 {One}" : $"{Plain.Number(count)} {Many}";
}

/// <summary>The dead letters of a broker.</summary>
internal sealed class DeadLetters(IBroker broker) : KeptEvents
{
    public static readonly KeptWords Called = new(
        "dead letter", "dead letters", "LETTER", "dead-letters", "send-back", "sent back", "letter");

    private readonly IDeadLetters letters = broker.DeadLetters ?? throw new CourierException(
        $"{broker.DisplayName} keeps no dead letters; the stores of the services that receive from it do");

    public override string DisplayName => broker.DisplayName;

    public override KeptWords Words => Called;

    public override async IAsyncEnumerable<Kept> ReadAsync(
        string? queue, [EnumeratorCancellation] CancellationToken cancel)
    {
        await foreach (var letter in letters.ReadAllAsync(queue, cancel)) yield return Of(letter);
    }

    public override async Task<Kept?> FindAsync(string id, CancellationToken cancel) =>
        await letters.FindAsync(id, cancel) is { } letter ? Of(letter) : null;

    public override Task<IReadOnlyList<bool>> ReturnAsync(
        IReadOnlyList<KeptReturn> events, CancellationToken cancel) =>
        letters.SendBackAsync([.. events.Select(e => new LetterReturn((DeadLetter)e.Kept.Origin, e.Repaired))], cancel);

    public override Task<IReadOnlyList<bool>> DiscardAsync(IReadOnlyList<Kept> events, CancellationToken cancel) =>
        letters.DiscardAsync([.. events.Select(e => e.Id)], cancel);

    public override ValueTask DisposeAsync() => broker.DisposeAsync();

    private static Kept Of(DeadLetter letter) => new(letter.Id, letter.Queue, letter.Reason, letter.Failure,
        letter.Attempts, letter.SetAside, letter.Json, letter);
}

/// <summary>The events that stayed in an outbox.</summary>
internal sealed class OutboxEvents(IStorePort store) : KeptEvents
{
    public static readonly KeptWords Called = new(
        "event", "events", "ROW", "outbox", "try-again", "to be tried again", "row")
    {
        Kind = "held or refused events",
    };

    public override string DisplayName => $"the outbox of {store.DisplayName}";

    public override KeptWords Words => Called;

    public override async IAsyncEnumerable<Kept> ReadAsync(
        string? queue, [EnumeratorCancellation] CancellationToken cancel)
    {
        for (var after = 0L; ;)
        {
            var page = await store.Held.ReadHeldAsync(Page, after, cancel);
            if (page.Count == 0) yield break;
            foreach (var held in page) yield return Of(held);
            after = page[^1].Row;
        }
    }

    public override async Task<string?> BesidesAsync(CancellationToken cancel)
    {
        var outbox = await store.ReadOutboxFiguresAsync(cancel);
        return outbox.Waiting - outbox.Held is > 0 and var waiting
            ? $"{Plain.Count(waiting, "event")} in it wait to be relayed, the oldest of all for "
                + $"{Plain.Age(outbox.OldestAge)}: courier look --outbox" : null;
    }

    public override async Task<Kept?> FindAsync(string id, CancellationToken cancel) =>
        long.TryParse(id, out var row) && await store.Held.FindHeldAsync(row, cancel) is { } held ? Of(held) : null;

    public override Task<IReadOnlyList<bool>> ReturnAsync(
        IReadOnlyList<KeptReturn> events, CancellationToken cancel) =>
        store.Held.TryAgainAsync(
            [.. events.Select(e => new HeldReturn(
                (HeldEvent)e.Kept.Origin, e.Repaired))], cancel);

    public override Task<IReadOnlyList<bool>> DiscardAsync(IReadOnlyList<Kept> events, CancellationToken cancel) =>
        store.Held.DiscardHeldAsync([.. events.Select(e => (HeldEvent)e.Origin)], cancel);

    public override ValueTask DisposeAsync() => store.DisposeAsync();

    private static Kept Of(HeldEvent held) => new(
        Plain.Id(held.Row), held.Due is null ? "refused" : "held", held.LastError, null, held.Attempts, held.Added,
        held.Json, held);
}
