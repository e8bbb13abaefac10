using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Publishing;

/// <summary>
/// The lead among the relays of a store: taken, and kept beside the work, so that a publish may last for as long as it
/// likes. One loop takes and keeps it; any number of callers ask for it.
/// </summary>
internal sealed partial class Lead(
    IRelayPort store, string displayName, TimeSpan lease, TimeProvider clock, ILogger logger)
{
    private const int NobodysTerm = -1;
    private static readonly TimeSpan LongestFarewell = TimeSpan.FromSeconds(5);

    private readonly string name = WorkerName.Unique();
    private readonly Signal taken = new();
    private long term = NobodysTerm, keptAt;

    /// <summary>The term in which this relay leads; null while it does not, or cannot know.</summary>
    public long? Term => Volatile.Read(ref term) is var mine and not NobodysTerm
        && clock.GetElapsedTime(Volatile.Read(ref keptAt)) < lease ? mine : null;

    /// <summary>Takes the lead or keeps it, and rests until that has to be done again.</summary>
    public async Task KeepAsync(CancellationToken cancellationToken)
    {
        // What is asked for begins before the answer is here.
        var began = clock.GetTimestamp();
        var found = await store.LeadAsync(name, lease, cancellationToken).ConfigureAwait(false) ?? NobodysTerm;
        Volatile.Write(ref keptAt, began);
        var previous = Interlocked.Exchange(ref term, found);
        if (found != previous)
        {
            if (found == NobodysTerm) LogLost(logger, displayName);
            else taken.Raise();
        }
        // A third of the lease leaves room for two misses; whoever stands by need not see its end at once.
        await Task.Delay(found == NobodysTerm ? lease / 5 : lease / 3, clock, cancellationToken).ConfigureAwait(false);
    }

    /// <summary>Waits until this relay leads.</summary>
    /// <returns>The term.</returns>
    public async Task<long> TakenAsync(CancellationToken cancellationToken)
    {
        while (true)
        {
            var next = taken.Next;
            if (Term is { } mine) return mine;
            // The lease may be in doubt without being lost: then it is kept again, in the same term, without a signal.
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

    [LoggerMessage(102, LogLevel.Information, "Relay of {Store} no longer leads; another does")]
    private static partial void LogLost(ILogger logger, string store);

    [LoggerMessage(107, LogLevel.Warning,
        "Relay of {Store} could not give up the lead: {Problem}; another takes over when the lease ends")]
    private static partial void LogNotResigned(ILogger logger, string store, string problem);
}
