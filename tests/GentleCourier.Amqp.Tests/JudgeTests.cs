using System.Text;
using System.Text.Json.Nodes;
using GentleCourier.Amqp.Events;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Transport;
using GentleCourier.Amqp.Types;
using GentleCourier.Conformance;

namespace GentleCourier.Amqp.Tests;

/// <summary>
/// Against another implementation: what both understand alike is understood as the specification means it.
/// </summary>
public sealed class JudgeTests
{
    private static readonly TimeSpan Limit = Crossing.Limit;

    private static CancellationToken Cancel => TestContext.Current.CancellationToken;

    private static async Task<(Connection Connection, Session Session)> BeginAsync()
    {
        var connection = await Peers.ConnectAsync(Judge.Address);
        return (connection, await connection.BeginSessionAsync(Cancel));
    }

    private static async Task<Sent> SendAsync(Session session, string address, params byte[][] messages)
    {
        var link = await session.AttachSenderAsync($"to {address}", address, Cancel);
        var sent = await link.SendAsync(messages, static (message, to) => to.Bytes(message), Limit, Cancel);
        await link.DisposeAsync();
        return sent;
    }

    private static async Task<Arrival> OneAsync(ReceivingLink link)
    {
        link.Grant(1);
        return Assert.Single(await link.ReceiveAsync(1, int.MaxValue, Cancel));
    }

    [Fact]
    public async Task Values_of_every_type_go_there_and_come_back()
    {
        var (connection, session) = await BeginAsync();
        await using var _ = connection;
        using var buffer = new WireBuffer();
        Properties.Shape.Write(buffer, new Properties
        {
            MessageId = Guid.Empty, UserId = new Binary("gate"u8.ToArray()), To = "types", Subject = "all",
            ReplyTo = "back", CorrelationId = 7ul, ContentType = "x/y", ContentEncoding = "z",
            AbsoluteExpiryTime = new Timestamp(4_000_000_000_000), CreationTime = new Timestamp(1), GroupId = "g",
            GroupSequence = 5, ReplyToGroupId = "h",
        });
        var properties = buffer.Written.ToArray();
        Message.Begin(buffer, Section.Value);
        WireValue.Any.Write(buffer, EncodingTests.EveryType);
        Assert.IsType<Accepted>((await SendAsync(session, "types", buffer.Written.ToArray())).Outcomes[0]);

        await using var link = await session.AttachReceiverAsync("types", "types", Cancel);
        var back = Message.Of((await OneAsync(link)).Message);
        Assert.Equal(Convert.ToHexString(EncodingTests.Write(EncodingTests.EveryType)),
            Convert.ToHexString(EncodingTests.Write(EncodingTests.Read(back.Body.ToArray()))));
        var (sent, came) = (new Properties(), new Properties());
        var reader = new WireReader(Message.Of(properties).Properties.Span);
        Properties.Shape.ReadFields(ref reader, sent);
        reader = new WireReader(back.Properties.Span);
        Properties.Shape.ReadFields(ref reader, came);
        Assert.Equivalent(sent, came, strict: true);
    }

    [Fact]
    public async Task Every_outcome_of_a_peer_is_known()
    {
        var (connection, session) = await BeginAsync();
        await using var _ = connection;
        var message = Samples.MessageOf(Samples.Json(1));
        var refused = Assert.IsType<Rejected>((await SendAsync(session, "refuse/it", message)).Outcomes[0]);
        Assert.Equal("rejected: amqp:precondition-failed: the judge refuses it", refused.ToString());
        Assert.IsType<Released>((await SendAsync(session, "release/it", message)).Outcomes[0]);
        Assert.True(Assert.IsType<Modified>(
            (await SendAsync(session, "modify/it", message)).Outcomes[0]).DeliveryFailed);
        var tooLarge = await SendAsync(session, "small/it", Samples.MessageOf(Samples.Json(1, 2000)), message);
        Assert.Equal(Conditions.MessageSizeExceeded,
            Assert.IsType<Rejected>(tooLarge.Outcomes[0]).Error!.Condition.Text);
        Assert.IsType<Accepted>(tooLarge.Outcomes[1]);
        var many = await SendAsync(session, "keep/it", [.. Enumerable.Repeat(message, 3000)]);
        Assert.All(many.Outcomes, o => Assert.IsType<Accepted>(o));
    }

    [Fact]
    public async Task Every_outcome_is_understood_by_a_peer()
    {
        var (connection, session) = await BeginAsync();
        await using var _ = connection;
        await SendAsync(session, "outcomes", Samples.MessageOf(Samples.Json(1)), Samples.MessageOf(Samples.Json(2)));
        await using var link = await session.AttachReceiverAsync("outcomes", "outcomes", Cancel);
        DeliveryState[] states =
        [
            DeliveryState.Released, DeliveryState.Accepted, new Modified { DeliveryFailed = true },
            new Rejected { Error = AmqpError.Of(Conditions.InvalidField, "nobody can read it") },
        ];
        var headers = new List<uint>();
        foreach (var state in states)
        {
            var arrival = await OneAsync(link);
            var header = new Header();
            var reader = new WireReader(Message.Of(arrival.Message).Header.Span);
            Header.Shape.ReadFields(ref reader, header);
            headers.Add(header.DeliveryCount);
            link.Settle([new(arrival.Id, state)]);
        }
        // Released and modified: where they were, with the failed one counted. The rejected one is kept apart.
        Assert.Equal([0u, 0u, 0u, 1u], headers);
        await using var rejected = await session.AttachReceiverAsync("rejected", "rejected/outcomes", Cancel);
        using var events = new CloudEventReader();
        Assert.Equal("tap-2", CourierEvent.Read(events.Read(Message.Of((await OneAsync(rejected)).Message))).Id);
    }

    [Fact]
    public async Task Messages_of_many_frames_go_both_ways()
    {
        var (connection, session) = await BeginAsync();
        await using var _ = connection;
        var text = new string('é', 1_500_000);
        var json = $$"""{"specversion":"1.0","id":"1","source":"/g","type":"t","data":"{{text}}"}""";
        var message = Samples.MessageOf(json);
        var sent = await SendAsync(session, "large", message, message, message);
        Assert.All(sent.Outcomes, o => Assert.IsType<Accepted>(o));
        await using var link = await session.AttachReceiverAsync("large", "large", Cancel);
        link.Grant(3);
        for (var i = 0; i < 3; i++)
        {
            var arrival = Assert.Single(await link.ReceiveAsync(1, int.MaxValue, Cancel));
            Assert.Equal($"\"{text}\"", Encoding.UTF8.GetString(Message.Of(arrival.Message).Body.Span));
        }
    }

    [Fact]
    public async Task Credit_is_drained_and_what_is_not_told_is_unknown()
    {
        var (connection, session) = await BeginAsync();
        await using var _ = connection;
        await SendAsync(session, "drained", Samples.MessageOf(Samples.Json(1)), Samples.MessageOf(Samples.Json(2)));
        await using var link = await session.AttachReceiverAsync("drained", "drained", Cancel);
        link.Grant(10);
        await link.DrainAsync(Cancel);
        Assert.Equal(0u, link.Credit);
        Assert.Equal(2, link.TryReceive(10).Count);
        await SendAsync(session, "drained", Samples.MessageOf(Samples.Json(3)));
        // This one does not answer such questions: it is unknown, and not 0.
        Assert.Null(await link.AvailableAsync(TimeSpan.FromMilliseconds(100), Cancel));
        Assert.Empty(link.TryReceive(10));
        link.Grant(1);
        Assert.Single(await link.ReceiveAsync(5, int.MaxValue, Cancel));
    }

    [Fact]
    public async Task What_is_not_there_is_refused_with_its_reason_and_costs_nothing_else()
    {
        var (connection, session) = await BeginAsync();
        await using var _ = connection;
        var error = await Assert.ThrowsAsync<AmqpException>(async () =>
        {
            var link = await session.AttachReceiverAsync("missing", "missing/taps", Cancel);
            await link.ReceiveAsync(1, int.MaxValue, Cancel);
        });
        Assert.Contains("amqp:not-found: there is no missing/taps", error.Message, StringComparison.Ordinal);
        Assert.False(error.IsTransient);
        Assert.IsType<Accepted>(
            (await SendAsync(session, "there", Samples.MessageOf(Samples.Json(1)))).Outcomes[0]);
    }

    [Fact]
    public async Task Events_are_read_and_published_by_another_implementation()
    {
        var (connection, session) = await BeginAsync();
        await using var _ = connection;
        await SendAsync(session, "events", Samples.MessageOf(Samples.Json(1)));
        var read = JsonNode.Parse(Assert.Single(Judge.Receive("events", 1)))!;
        Assert.Equal("tap-1", (string?)read["properties"]!["cloudEvents_id"]);
        Assert.Equal("""{"number":1}""", (string?)read["body"]);
        Assert.Equal(("application/json", true), ((string?)read["type"], (bool)read["durable"]!));

        var binary = """
            {"cloudEvents:specversion":"1.0","cloudEvents:id":"8","cloudEvents:source":"/judge","cloudEvents:type":"t"}
            """;
        binary = $$"""{"properties":{{binary}},"type":"application/json","body":"{\"a\":1}"}""";
        var structured = new JsonObject
        {
            ["type"] = "application/cloudevents+json; charset=utf-8", ["body"] = Samples.Json(9),
        };
        Assert.Equal(["accepted", "accepted"], Judge.Send("events", binary, structured.ToJsonString()));
        await using var link = await session.AttachReceiverAsync("events", "events", Cancel);
        using var events = new CloudEventReader();
        var first = events.Read(Message.Of((await OneAsync(link)).Message));
        var second = events.Read(Message.Of((await OneAsync(link)).Message));
        Assert.Equal("""{"a":1}""", Encoding.UTF8.GetString(CourierEvent.Read(first).Data.Span));
        Assert.Equal(("8", "tap-9"), (CourierEvent.Read(first).Id, CourierEvent.Read(second).Id));
    }
}
