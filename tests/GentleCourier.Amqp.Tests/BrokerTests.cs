using System.Diagnostics;
using System.Text;
using GentleCourier.Amqp.Events;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;
using GentleCourier.Amqp.Types;
using GentleCourier.Conformance;

namespace GentleCourier.Amqp.Tests;

/// <summary>Against a real broker.</summary>
public sealed class BrokerTests
{
    private static readonly TimeSpan Limit = Crossing.Limit;

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
        var sent = await SendAsync(session, address, [.. Enumerable.Range(0, 1000).Select(i => Samples.Json(i))]);
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
            seen.AddRange(arrivals.Select(a => CourierEvent.Read(reader.Read(Message.Of(a.Message))).Id));
            link.Settle(arrivals.Select(a => new Verdict(a.Id, DeliveryState.Accepted)));
            if (link.Credit < 50) link.Grant(100);
        }
        Assert.Equal([.. Enumerable.Range(0, 1000).Select(i => $"tap-{i}")], seen);
        await link.DisposeAsync();
        Assert.Equal(0, SharedBroker.One.Depth(name));
    }

    [Fact]
    public async Task Over_tls_the_broker_is_believed_by_its_authority_alone()
    {
        var (name, address) = SharedBroker.Queue();
        var secure = SharedBroker.One.SecureAddress;
        var refused = await Assert.ThrowsAsync<AmqpException>(() => Peers.ConnectAsync(secure));
        Assert.Contains("its certificate was not accepted", refused.Message, StringComparison.Ordinal);
        await using var connection = await Peers.ConnectAsync($"{secure}?authority={SharedBroker.One.Authority}");
        var session = await connection.BeginSessionAsync(Cancel);
        var sent = await SendAsync(session, address, [Samples.Json(1)]);
        Assert.IsType<Accepted>(Assert.Single(sent.Outcomes));
        Assert.Equal(1, SharedBroker.One.Depth(name));
        await using var link = await session.AttachReceiverAsync("receiver", address, Cancel);
        link.Grant(1);
        Assert.Single(await link.ReceiveAsync(1, int.MaxValue, Cancel));
    }

    [Fact]
    public async Task What_the_broker_does_not_let_be_done_says_why()
    {
        var wrong = SharedBroker.One.Address.Replace(
            Uri.EscapeDataString(SharedBroker.One.Password), "another", StringComparison.Ordinal);
        var refused = await Assert.ThrowsAsync<AmqpException>(() => Peers.ConnectAsync(wrong));
        Assert.Contains("it refuses the user 'courier'; check user and password", refused.Message,
            StringComparison.Ordinal);
        await using var connection = await Peers.ConnectAsync(SharedBroker.One.Address);
        var session = await connection.BeginSessionAsync(Cancel);
        var missing = await Assert.ThrowsAsync<AmqpException>(
            () => session.AttachReceiverAsync("receiver", "/amq/queue/nobody-made-it", Cancel));
        Assert.Contains("not-found", missing.Message, StringComparison.Ordinal);
        Assert.False(missing.IsTransient);
    }

    [Fact]
    public async Task What_was_not_settled_when_a_session_ended_comes_again_to_another()
    {
        var (_, address) = SharedBroker.Queue();
        await using var connection = await Peers.ConnectAsync(SharedBroker.One.Address);
        var session = await connection.BeginSessionAsync(Cancel);
        await SendAsync(session, address, [.. Enumerable.Range(0, 20).Select(i => Samples.Json(i))]);
        var another = await connection.BeginSessionAsync(Cancel);
        var first = await another.AttachReceiverAsync("first", address, Cancel);
        first.Grant(20);
        var arrivals = await first.ReceiveAsync(20, int.MaxValue, Cancel);
        first.Settle([.. arrivals.Take(3).Select(a => new Verdict(a.Id, DeliveryState.Accepted)),
            .. arrivals.Skip(3).Take(1).Select(a => new Verdict(a.Id, DeliveryState.Released))]);
        await another.DisposeAsync();
        Assert.Contains("was ended here", first.WhyGone!.Message, StringComparison.Ordinal);
        await using var second = await session.AttachReceiverAsync("second", address, Cancel);
        second.Grant(20);
        var left = 20 - Math.Min(3, arrivals.Count);
        while (left > 0)
        {
            var more = await second.ReceiveAsync(20, int.MaxValue, Cancel);
            second.Settle(more.Select(a => new Verdict(a.Id, DeliveryState.Accepted)));
            left -= more.Count;
        }
        Assert.Equal(0, left);
        Assert.Equal(0u, await second.AvailableAsync(Limit, Cancel));
    }

    [Fact]
    public async Task A_broker_that_is_killed_is_found_again_with_what_it_had_confirmed()
    {
        using var broker = SharedBroker.Start();
        var address = broker.Create("taps");
        await using var lasting = new LastingConnection(Peers.Parse(broker.Address), TimeProvider.System);
        using var writer = new CloudEventWriter();
        var (sent, confirmed) = (0, 0);
        Task? killing = null;
        AmqpException? why = null;
        var link = await AttachAsync(await lasting.GetAsync(Cancel));
        for (; why is null; killing ??= Task.Run(() => broker.Stop(immediately: true), Cancel))
            why = await SendAsync();
        Assert.NotEqual(0, confirmed);
        await killing!;
        broker.Start();
        Assert.InRange(Depth(), confirmed, sent);
        link = await AttachAsync(await ConnectedAsync(lasting));
        Assert.Null(await SendAsync());

        // It says that it runs before it has its queues back.
        int Depth()
        {
            for (var began = Stopwatch.GetTimestamp(); ;)
            {
                try
                {
                    return broker.Depth("taps");
                }
                catch (InvalidOperationException) when (Stopwatch.GetElapsedTime(began) < Limit)
                {
                    // Not yet.
                }
            }
        }

        async Task<SendingLink> AttachAsync(Connection connection) =>
            await (await connection.BeginSessionAsync(Cancel)).AttachSenderAsync("sender", address, Cancel);

        async Task<AmqpException?> SendAsync()
        {
            var said = await link.SendAsync(
                [.. Enumerable.Range(sent, 1000).Select(i => Encoding.UTF8.GetBytes(Samples.Json(i)))],
                (json, to) => writer.Write(json, to), Limit, Cancel);
            sent += 1000;
            confirmed += said.Outcomes.Count(o => o is Accepted);
            return said.WhyNot;
        }

        static async Task<Connection> ConnectedAsync(LastingConnection lasting)
        {
            while (true)
            {
                try
                {
                    return await lasting.GetAsync(Cancel);
                }
                catch (AmqpException)
                {
                    Cancel.ThrowIfCancellationRequested();
                }
            }
        }
    }
}
