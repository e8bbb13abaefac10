using System.Text;
using GentleCourier.Amqp.Events;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Transport;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Tests;

/// <summary>Against a real broker.</summary>
public sealed class BrokerTests
{
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(30);

    private static CancellationToken Cancel => TestContext.Current.CancellationToken;

    private static async Task<Sent> SendAsync(Session session, string address, IReadOnlyList<string> events)
    {
        using var writer = new CloudEventWriter();
        var link = await session.AttachSenderAsync("sender", address, Cancel);
        var sent = await link.SendAsync(
            events, (json, to) => writer.Write(Encoding.UTF8.GetBytes(json), to), Limit, Cancel);
        await link.DisposeAsync();
        return sent;
    }

    [Fact]
    public async Task What_is_published_with_confirmation_is_received_and_settled()
    {
        var (name, address) = SharedBroker.Queue();
        await using var connection = await Peers.ConnectAsync(SharedBroker.One.Address);
        var session = await connection.BeginSessionAsync(Cancel);
        var sent = await SendAsync(session, address, [.. Enumerable.Range(0, 1000).Select(Samples.Json)]);
        Assert.Null(sent.WhyNot);
        Assert.All(sent.Outcomes, o => Assert.IsType<Accepted>(o));
        Assert.Equal(1000, SharedBroker.One.Depth(name));

        var link = await session.AttachReceiverAsync("receiver", address, Cancel);
        Assert.Equal(1000u, await link.AvailableAsync(Limit, Cancel));
        using var reader = new CloudEventReader();
        var seen = new List<string>();
        link.Grant(100);
        while (seen.Count < 1000)
        {
            var arrivals = await link.ReceiveAsync(100, int.MaxValue, Cancel);
            seen.AddRange(arrivals.Select(a => Event.Read(reader.Read(Message.Of(a.Message))).Id));
            link.Settle(arrivals.Select(a => new Verdict(a.Id, DeliveryState.Accepted)));
            if (link.Credit < 50) link.Grant(100);
        }
        Assert.Equal([.. Enumerable.Range(0, 1000).Select(i => $"tap-{i}")], seen);
        await link.DisposeAsync();
        Assert.Equal(0, SharedBroker.One.Depth(name));
    }
}
