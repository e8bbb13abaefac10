using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Publishing;

/// <summary>
/// The lead among the relays of a store: taken, and kept beside the work, so that a publish may last for as long as it
/// likes. One loop takes and keeps it; any number of callers ask for it.
/// </summary>
internal sealed partial class Lead(
    IRelayPort store, string displayName, TimeSpan lease, TimeProvider clock, ILogger logger) : IDisposable
{
    private const int NobodysTerm = -1;
    private static readonly TimeSpan LongestFarewell = TimeSpan.FromSeconds(5);

    private readonly string name = WorkerName.Unique();
    private readonly Signal taken = new();
    private readonly SemaphoreSlim asking = new(1);
    private long term = NobodysTerm, keptAt, lastFound = NobodysTerm;
    private bool hasRaised;

    /// <summary>Whose lead it is, for people.</summary>
    public string Store => displayName;

    /// <summary>The term in which this relay leads; null while it does not, or cannot know.</summary>
    public long? Term => Volatile.Read(ref term) is var mine and not NobodysTerm
        && clock.GetElapsedTime(Volatile.Read(ref keptAt)) < lease ? mine : null;

    /// <summary>Takes the lead or keeps it, and rests until that has to be done again.</summary>
    public async Task KeepAsync(CancellationToken cancellationToken)
    {
        var began = clock.GetTimestamp();
        var found = await AskAsync(cancellationToken).ConfigureAwait(false);
        // A third of the lease leaves room for two misses; whoever stands by need not see its end at once.
        var wait = (found == NobodysTerm ? lease / 5 : lease / 3) - clock.GetElapsedTime(began);
        if (wait > TimeSpan.Zero) await Task.Delay(wait, clock, cancellationToken).ConfigureAwait(false);
    }

    private async Task<long> AskAsync(CancellationToken cancellationToken)
    {
        await asking.WaitAsync(cancellationToken).ConfigureAwait(false);
        try
        {
            // What is asked for begins before the answer is here.
            var began = clock.GetTimestamp();
            var found = await store.LeadAsync(name, lease, cancellationToken).ConfigureAwait(false) ?? NobodysTerm;
            var wasInDoubt = Term is null;
            Volatile.Write(ref keptAt, began);
            // Another has led meanwhile, or somebody has ended the term.
            if (found != lastFound) hasRaised = false;
            lastFound = found;
            var previous = Interlocked.Exchange(ref term, found);
            if (found != NobodysTerm && (found != previous || wasInDoubt)) taken.Raise();
            else if (found != previous) LogLost(logger, displayName);
            return found;
        }
        finally
        {
            asking.Release();
        }
    }

    /// <summary>
    /// Goes on in a term above one that a broker has seen: the store has been restored. A second time, in one
    /// leadership, it cannot be that: another store of the same identity lives.
    /// </summary>
    /// <param name="broker">Who has seen it, for people.</param>
    /// <param name="mine">The term of this relay.</param>
    /// <param name="above">The one that the broker has seen.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>The new term; null where this relay does not lead any more.</returns>
    public async Task<long?> RaiseAsync(string broker, long mine, long above, CancellationToken cancellationToken)
    {
        await asking.WaitAsync(cancellationToken).ConfigureAwait(false);
        try
        {
            if (hasRaised) throw new TwinException(displayName, broker);
            var raised = await store.RaiseTermAsync(mine, above, cancellationToken).ConfigureAwait(false);
            Interlocked.CompareExchange(ref term, raised ?? NobodysTerm, mine);
            if (raised is { } found) (lastFound, hasRaised) = (found, true);
            return raised;
        }
        finally
        {
            asking.Release();
        }
    }

    /// <summary>Waits until this relay leads.</summary>
    /// <returns>The term.</returns>
    public async Task<long> TakenAsync(CancellationToken cancellationToken)
    {
        while (true)
        {
            var next = taken.Next;
            if (Term is { } mine) return mine;
            await Task.WhenAny(next, Task.Delay(lease / 5, clock, cancellationToken)).ConfigureAwait(false);
            cancellationToken.ThrowIfCancellationRequested();
        }
    }

    /// <summary>The term turned out to be over: what follows waits until the lead is taken again.</summary>
    public void Lose(long mine) => Interlocked.CompareExchange(ref term, NobodysTerm, mine);

    /// <summary>
    /// Gives it up, so that another need not wait for the lease to end. Call it once nothing keeps it.
    /// </summary>
    public async Task ResignAsync()
    {
        var mine = Interlocked.Exchange(ref term, NobodysTerm);
        if (mine == NobodysTerm) return;
        FaultPoint.Pass(FaultPoint.StoppedNotResigned);
        try
        {
            using var limit = new CancellationTokenSource(LongestFarewell);
            await store.ResignAsync(mine, limit.Token).ConfigureAwait(false);
        }
        catch (Exception e)
        {
            LogNotResigned(logger, displayName, e.Message);
        }
    }

    public void Dispose() => asking.Dispose();

    [LoggerMessage(102, LogLevel.Information, "Relay of {Store} no longer leads; another does")]
    private static partial void LogLost(ILogger logger, string store);

    [LoggerMessage(107, LogLevel.Warning,
        "Relay of {Store} could not give up the lead: {Problem}; another takes over when the lease ends")]
    private static partial void LogNotResigned(ILogger logger, string store, string problem);
}

/// <summary>Two stores publish under one identity.</summary>
internal sealed class TwinException(string store, string broker) : CourierException(
    $"another store publishes to {broker} under the identity of {store}: one of them is a copy of the other, such as a "
    + "backup that was restored beside the original. Stop that one; or, if both are to live, give one an identity of "
    + "its own with `courier outbox accept-broker --new-identity`; to go on with this one as it is, say "
    + "`courier outbox accept-broker`");
