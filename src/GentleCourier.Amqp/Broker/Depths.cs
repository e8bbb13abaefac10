using System.Collections.Concurrent;
using System.Diagnostics;
using GentleCourier.Amqp.Transport;

namespace GentleCourier.Amqp.Broker;

/// <summary>
/// How many messages wait in queues, as the broker says in answer to a question (part 2, section 2.7.4): to the link
/// that receives from the queue, where this process has one; otherwise to a look. A broker that does not say is asked
/// again after some seconds. Thread-safe.
/// </summary>
internal sealed class Depths(Looks looks)
{
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(5), Silence = TimeSpan.FromSeconds(15);

    private readonly ConcurrentDictionary<string, ReceivingLink> receiving = new(StringComparer.Ordinal);
    // Who has not answered is not waited for at every look; a peer that never has, not for each queue.
    private readonly ConcurrentDictionary<string, long> silent = new(StringComparer.Ordinal);
    private bool hasAnswered;

    /// <summary>A link receives from a queue.</summary>
    public void Receives(string queue, ReceivingLink link) => receiving[queue] = link;

    /// <summary>Whether each queue is there, and may be received from.</summary>
    /// <exception cref="AmqpException">The broker cannot be asked.</exception>
    public async Task<IReadOnlyList<bool>> AreThereAsync(
        IReadOnlyList<string> queues, CancellationToken cancellationToken) => await looks.EachAsync(
            queues, static (_, _) => Task.FromResult(true), cancellationToken).ConfigureAwait(false);

    /// <summary>For each queue how many wait; null where it is not there, or the broker does not say.</summary>
    /// <exception cref="AmqpException">The broker cannot be asked.</exception>
    public async Task<IReadOnlyList<long?>> ReadAsync(
        IReadOnlyList<string> queues, CancellationToken cancellationToken)
    {
        List<string> asked = [.. queues.Where(q => !IsSilent(q)).Distinct()];
        List<string> others = [.. asked.Where(q => LinkOf(q) is null)];
        var own = asked.Where(q => LinkOf(q) is not null).ToDictionary(
            q => q, q => AskAsync(LinkOf(q), q, cancellationToken));
        var seen = await looks.EachAsync(
            others, (link, queue) => AskAsync(link, queue, cancellationToken), cancellationToken).ConfigureAwait(false);
        var depths = others.Zip(seen).ToDictionary(static o => o.First, static o => o.Second);
        foreach (var (queue, depth) in own) depths[queue] = await depth.ConfigureAwait(false);
        return [.. queues.Select(q => depths.GetValueOrDefault(q))];
    }

    private ReceivingLink? LinkOf(string queue) =>
        receiving.TryGetValue(queue, out var link) && link.WhyGone is null ? link : null;

    private bool IsSilent(string queue) => Volatile.Read(ref hasAnswered)
        ? silent.TryGetValue(queue, out var since) && Stopwatch.GetElapsedTime(since) < Silence
        : silent.Values.Any(static since => Stopwatch.GetElapsedTime(since) < Silence);

    private async Task<long?> AskAsync(ReceivingLink? link, string queue, CancellationToken cancellationToken)
    {
        try
        {
            if (link is null || IsSilent(queue)) return null;
            var available = await link.AvailableAsync(Limit, cancellationToken).ConfigureAwait(false);
            if (available is null) silent[queue] = Stopwatch.GetTimestamp();
            else Volatile.Write(ref hasAnswered, true);
            return available;
        }
        catch (AmqpException)
        {
            // It is gone at this moment; whoever receives by it says so.
            return null;
        }
    }
}
