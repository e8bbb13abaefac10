using System.Diagnostics;
using System.Runtime.CompilerServices;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;

namespace GentleCourier.Amqp.Broker;

/// <summary>
/// How many messages wait in queues, as the broker says to links that never have credit (part 2, section 2.6.7). They
/// are kept. A broker that does not say is asked again after some seconds. Thread-safe.
/// </summary>
internal sealed class Depths(LastingConnection lasting, AmqpAddress address) : IDisposable
{
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(5), Silence = TimeSpan.FromSeconds(15);

    private readonly SemaphoreSlim turn = new(1, 1);
    private readonly Dictionary<string, ReceivingLink> links = new(StringComparer.Ordinal);
    // Who has not answered is not waited for at every look.
    private readonly ConditionalWeakTable<ReceivingLink, object> silent = [];

    /// <summary>Whether a queue is there, and may be received from.</summary>
    /// <exception cref="AmqpException">The broker cannot be asked.</exception>
    public async Task<bool> IsThereAsync(string queue, CancellationToken cancellationToken)
    {
        await turn.WaitAsync(cancellationToken).ConfigureAwait(false);
        try
        {
            return await LinkAsync(queue, cancellationToken).ConfigureAwait(false) is not null;
        }
        finally
        {
            turn.Release();
        }
    }

    /// <summary>For each queue how many wait; null where it is not there, or the broker does not say.</summary>
    public async Task<IReadOnlyList<long?>> ReadAsync(
        IReadOnlyList<string> queues, CancellationToken cancellationToken)
    {
        await turn.WaitAsync(cancellationToken).ConfigureAwait(false);
        try
        {
            var asked = new List<Task<uint?>>(queues.Count);
            foreach (var queue in queues)
                asked.Add(await LinkAsync(queue, cancellationToken).ConfigureAwait(false) is { } link
                    ? AskAsync(link, cancellationToken) : Task.FromResult<uint?>(null));
            return [.. (await Task.WhenAll(asked).ConfigureAwait(false)).Select(depth => (long?)depth)];
        }
        finally
        {
            turn.Release();
        }
    }

    public void Dispose() => turn.Dispose();

    private async Task<uint?> AskAsync(ReceivingLink link, CancellationToken cancellationToken)
    {
        if (silent.TryGetValue(link, out var since) && Stopwatch.GetElapsedTime((long)since) < Silence) return null;
        var available = await link.AvailableAsync(Limit, cancellationToken).ConfigureAwait(false);
        if (available is null) silent.AddOrUpdate(link, Stopwatch.GetTimestamp());
        return available;
    }

    private async Task<ReceivingLink?> LinkAsync(string queue, CancellationToken cancellationToken)
    {
        if (links.TryGetValue(queue, out var known) && known.WhyGone is null) return known;
        var connection = await lasting.GetAsync(cancellationToken).ConfigureAwait(false);
        var session = await connection.BeginSessionAsync(cancellationToken).ConfigureAwait(false);
        try
        {
            return links[queue] = await session.AttachReceiverAsync(
                $"depth of {queue} {Guid.NewGuid():n}", address.Of(queue), cancellationToken).ConfigureAwait(false);
        }
        catch (Exception e)
        {
            await session.DisposeAsync().ConfigureAwait(false);
            if (e is AmqpException { Condition: Conditions.NotFound or Conditions.UnauthorizedAccess }) return null;
            throw;
        }
    }
}
