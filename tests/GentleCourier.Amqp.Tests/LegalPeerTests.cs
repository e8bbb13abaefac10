using System.Collections.Concurrent;
using System.Diagnostics;
using System.Text;
using GentleCourier.Amqp.Broker;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Amqp.Tests;

/// <summary>
/// Peers with any legal value of all that the protocol lets them choose, by seeds: whatever is published comes, and
/// nothing stands still. A longer run: <c>eng/fuzz.sh</c>.
/// </summary>
public sealed class LegalPeerTests
{
    private const int Events = 40;

    private static readonly TimeSpan Limit = Crossing.Limit;

    public static TheoryData<int> Seeds => [.. Enumerable.Range(1, 40 * Fuzz.Count)];

    [Theory]
    [MemberData(nameof(Seeds))]
    public async Task What_is_published_comes_whatever_the_peer_is_like(int seed)
    {
        await using var peer = new LegalPeer(seed);
        var what = peer.Habits.ToString();
        using var limit = new CancellationTokenSource(Limit);
        try
        {
            await PublishAndReceiveAsync(peer, new Random(seed), limit.Token);
        }
        catch (OperationCanceledException) when (limit.IsCancellationRequested)
        {
            Assert.Fail($"it stands still, with {peer.Count} left, beside a peer of {what}");
        }
        Assert.True(peer.Complaints.IsEmpty, $"{what}: {string.Join('\n', peer.Complaints)}");
    }

    private static async Task PublishAndReceiveAsync(LegalPeer peer, Random random, CancellationToken cancellationToken)
    {
        var isExact = peer.Habits.IsExact;
        await using var broker = new AmqpBroker(
            Peers.Parse($"{peer.Address}/?queue={{queue}}"), TimeProvider.System);
        string[] queues = [.. Enumerable.Range(1, random.Next(1, 7)).Select(n => $"queue-{n}")];
        var seen = new ConcurrentBag<string>();
        using var done = CancellationTokenSource.CreateLinkedTokenSource(cancellationToken);
        var receiving = queues.SelectMany(q => Enumerable.Range(0, random.Next(1, 3)).Select(
            n => ReceiveAsync(broker, q, new Random(random.Next()), seen, done.Token))).ToList();
        await PublishAsync(broker, queues, random, cancellationToken);
        while (peer.Count > 0 || seen.Distinct().Count() < Events) await Task.Delay(5, cancellationToken);
        await done.CancelAsync();
        await Task.WhenAll(receiving);
        if (isExact) Assert.Equal(Events, seen.Count);
        // Who does not answer is waited for, once.
        if (!peer.Habits.Echoes && random.Next(10) > 0) return;
        Assert.All(await broker.ReadDepthsAsync(queues, cancellationToken), depth => Assert.True(depth is null or 0));
    }

    private static async Task PublishAsync(
        AmqpBroker broker, string[] queues, Random random, CancellationToken cancellationToken)
    {
        var left = Enumerable.Range(0, Events).Select(i => new EncodedEvent(
            $"tap-{i}", "test.tap", null, Encoding.UTF8.GetBytes(Samples.Json(i, random.Next(8) == 0 ? 5_000 : 1)))
        {
            Address = queues[random.Next(queues.Length)],
        }).ToList();
        while (left.Count > 0)
        {
            try
            {
                var batch = left.Take(random.Next(1, 20)).ToList();
                var results = await broker.PublishAsync(batch, cancellationToken);
                for (var i = 0; i < batch.Count; i++)
                    if (results[i].Fate == PublishFate.Taken) left.Remove(batch[i]);
            }
            catch (CourierException)
            {
                await Task.Delay(5, cancellationToken);
            }
        }
    }

    private static async Task ReceiveAsync(
        AmqpBroker broker, string queue, Random random, ConcurrentBag<string> seen, CancellationToken done)
    {
        while (!done.IsCancellationRequested)
        {
            try
            {
                await using var link = await broker.OpenLinkAsync(queue, "worker", TimeSpan.FromMinutes(1), done);
                for (IReadOnlyList<HandOver> held = []; ;)
                {
                    if (held.Count == 0) held = await link.ReceiveAsync(random.Next(1, 9), done);
                    foreach (var delivery in held) seen.Add(CourierEvent.Read(delivery.Json).Id);
                    var exchange = await link.SettleAsync(
                        [.. held.Select(d => new Settlement(d, Outcome.Accepted))], random.Next(0, 9),
                        CancellationToken.None);
                    held = exchange.Deliveries;
                }
            }
            catch (Exception e) when (e is CourierException or OperationCanceledException)
            {
                await Task.Delay(5, CancellationToken.None);
            }
        }
    }
}
