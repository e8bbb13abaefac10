using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;
using GentleCourier.Amqp.Types;
using GentleCourier.Conformance;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Amqp.Tests;

/// <summary>Peers that do what a healthy one never does: everything ends, and says why.</summary>
public sealed class PeerTests
{
    private static readonly TimeSpan Limit = Crossing.Limit;

    private static CancellationToken Cancel => TestContext.Current.CancellationToken;

    private static byte[] Message(int number = 1) => Samples.MessageOf(Samples.Json(number));

    private static ConnectionSettings Impatient(PeerHost host) =>
        Peers.Settings(host) with { AnswerWithin = TimeSpan.FromMilliseconds(200) };

    private static async Task<(Connection Connection, Session Session)> BeginAsync(
        ScriptedPeer peer, Func<PeerHost, ConnectionSettings>? settings = null)
    {
        var connection = await Peers.ConnectAsync(peer.Address, settings);
        return (connection, await connection.BeginSessionAsync(Cancel));
    }

    private static Task<Sent> SendAsync(SendingLink link, TimeSpan within, params byte[][] messages) =>
        link.SendAsync(messages, static (message, to) => to.Bytes(message), within, Cancel);

    /// <summary>What a conversation does: it sends two messages, and receives and settles two.</summary>
    private static async Task ConverseAsync(string address, Func<PeerHost, ConnectionSettings> settings)
    {
        await using var connection = await Peers.ConnectAsync(address, settings);
        await using var session = await connection.BeginSessionAsync(Cancel);
        await using var sending = await session.AttachSenderAsync("out", "taps", Cancel);
        var sent = await SendAsync(sending, settings(new("peer", 1)).AnswerWithin, Message(), Message());
        if (sent.WhyNot is not null) throw sent.WhyNot;
        Assert.All(sent.Outcomes, o => Assert.IsType<Accepted>(o));
        await using var receiving = await session.AttachReceiverAsync("in", "taps", Cancel);
        receiving.Grant(2);
        using var limit = new CancellationTokenSource(settings(new("peer", 1)).AnswerWithin);
        for (var left = 2; left > 0;)
        {
            var arrivals = await receiving.ReceiveAsync(2, int.MaxValue, limit.Token);
            receiving.Settle(arrivals.Select(a => new Verdict(a.Id, DeliveryState.Accepted)));
            left -= arrivals.Count;
        }
    }

    [Fact]
    public async Task A_peer_that_behaves_is_talked_to_even_if_it_sends_each_byte_by_itself()
    {
        await using var peer = new ScriptedPeer { IsSlow = true, Messages = [Message(), Message(2)] };
        await ConverseAsync(peer.Address, Peers.Settings);
        var last = await peer.HeardAsync<Disposition>(d => (d.Last ?? d.First) == 1);
        Assert.Equal((true, true, DeliveryState.Accepted), (last.IsReceiver, last.Settled, last.State));
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task A_conversation_that_is_cut_or_freezes_at_any_byte_ends(bool freezes)
    {
        var (cut, whole) = (0, false);
        for (; !whole; cut += freezes ? 41 : 1)
        {
            await using var peer = new ScriptedPeer
            {
                CutAfter = cut, Freezes = freezes, Messages = [Message(), Message(2)],
            };
            try
            {
                await ConverseAsync(peer.Address, host => Peers.Settings(host) with
                {
                    AnswerWithin = freezes ? TimeSpan.FromMilliseconds(200) : Limit,
                }).WaitAsync(Limit, Cancel);
                whole = true;
            }
            catch (Exception e) when (e is AmqpException or OperationCanceledException)
            {
                // It has ended, with a reason, or with the limit of who waits for events.
            }
        }
        // The whole conversation has so many bytes of the peer's; at the last ones nothing is missed any more.
        Assert.InRange(cut, 600, 2000);
    }

    public static TheoryData<string, string> Illegal => new()
    {
        { "0000000702000000", "a frame says it has 7 bytes" },
        { "7fffffff02000000", "it must have 8 to" },
        { "0000000801000000", "cannot begin at 4" },
        { "0000000803000000", "cannot begin at 12" },
        { "0000000802090000", "no frame of type 9" },
        { "0000000902000000" + "40", "a described value should stand here" },
        { "0000000c02000000" + "00531b45", "no performative that is known" },
        { "0000000c02000005" + "00531b45", "channel 5, where no session is" },
        { "0000000c02000000" + "00531045", "a second open came" },
        { "0000000c02000000" + "00531145", "next-outgoing-id of amqp:begin:list is missing" },
        { "0000000d02000000" + "005314c004", "4 more bytes" },
        { "0000000f02000000" + "005314c0020141", "handle of amqp:transfer:list: a uint should stand here" },
        { "0000000c02010000" + "00534045", "a SASL frame came after authentication" },
        { "0000000b02000000" + "005315", "1 more bytes" },
        { "0000001402000000" + "005311c00704" + "40434343" + "4040", "bytes behind its last field" },
        { "0000001202000000" + "005311c00504" + "40434343", "began a session of its own" },
        { "0000001402000000" + "005311c00704" + "60000943" + "4343", "began for channel 9" },
        { "0000001402000000" + "005311c00704" + "60000043" + "4343", "began for channel 0" },
    };

    [Theory]
    [MemberData(nameof(Illegal))]
    public async Task An_illegal_frame_ends_the_connection_with_its_reason(string hex, string reason)
    {
        await using var peer = new ScriptedPeer();
        Talk? talk = null;
        peer.On = (t, _) => Task.FromResult((talk = t) is null);
        var (connection, session) = await BeginAsync(peer);
        await using var __ = connection;
        await using var link = await session.AttachReceiverAsync("in", "taps", Cancel);
        await talk!.RawAsync(Convert.FromHexString(hex));
        await connection.Ended.WaitAsync(Limit, Cancel);
        Assert.Contains(reason.Replace("began for", "begun for", StringComparison.Ordinal),
            connection.WhyEnded!.Message, StringComparison.Ordinal);
        Assert.Equal(Conditions.DecodeError, (await peer.HeardAsync<Close>()).Error!.Condition.Text);
        Assert.Same(connection.WhyEnded, link.WhyGone);
        await Assert.ThrowsAsync<AmqpException>(() => link.ReceiveAsync(1, 1, Cancel));
        Assert.Throws<AmqpException>(() => link.Settle([]));
        await Assert.ThrowsAsync<AmqpException>(() => session.AttachSenderAsync("out", "taps", Cancel));
        await Assert.ThrowsAsync<AmqpException>(() => connection.BeginSessionAsync(Cancel));
    }

    public static TheoryData<string, string> Wrong => new()
    {
        { "attach", "a link was attached that nobody had asked for" },
        { "handle", "of another" },
        { "unattached", "to which no link is attached" },
        { "to a sender", "a transfer came on a link that sends" },
        { "backwards", "a disposition goes from 5 back to 3" },
    };

    [Theory]
    [MemberData(nameof(Wrong))]
    public async Task What_is_wrong_in_a_session_ends_that_alone(string what, string reason)
    {
        await using var peer = new ScriptedPeer { Messages = [Message()] };
        Talk? talk = null;
        peer.On = (t, _) => Task.FromResult((talk = t) is null);
        var (connection, session) = await BeginAsync(peer);
        await using var __ = connection;
        await using var sending = await session.AttachSenderAsync("out", "taps", Cancel);
        if (what == "handle")
        {
            peer.On = async (t, told) =>
            {
                if (told.Performative is not Attach attach) return false;
                await t.SendAsync(Attach.Shape, new Attach
                {
                    Name = attach.Name, Handle = 0, Source = attach.Source, Target = attach.Target,
                });
                return true;
            };
            await Assert.ThrowsAsync<AmqpException>(() => session.AttachReceiverAsync("in", "taps", Cancel));
        }
        await (what switch
        {
            "attach" => talk!.SendAsync(Attach.Shape, new Attach { Name = "mine", Handle = 9 }),
            "unattached" => talk!.TransferAsync(9, 0, Message()),
            "to a sender" => talk!.TransferAsync(0, 0, Message()),
            "backwards" =>
                talk!.SendAsync(Disposition.Shape, new Disposition { IsReceiver = true, First = 5, Last = 3 }),
            _ => Task.CompletedTask,
        });
        await sending.Gone.WaitAsync(Limit, Cancel);
        Assert.Contains(reason, sending.WhyGone!.Message, StringComparison.Ordinal);
        Assert.NotNull((await peer.HeardAsync<End>()).Error);
        peer.On = (_, _) => Task.FromResult(false);
        var another = await connection.BeginSessionAsync(Cancel);
        await using var link = await another.AttachReceiverAsync("in", "taps", Cancel);
        link.Grant(1);
        Assert.Single(await link.ReceiveAsync(1, int.MaxValue, Cancel));
    }

    [Fact]
    public async Task What_is_wrong_on_a_link_ends_that_alone()
    {
        await using var peer = new ScriptedPeer();
        Talk? talk = null;
        peer.On = (t, _) => Task.FromResult((talk = t) is null);
        var (connection, session) = await BeginAsync(peer, h => Peers.Settings(h) with { MaxMessageSize = 1000 });
        await using var _ = connection;
        (Func<ReceivingLink, Task> Do, string Reason)[] wrongs =
        [
            (l => talk!.TransferAsync(l.RemoteHandle!.Value, null, Message()), "without its delivery-id"),
            (async l =>
            {
                await talk!.TransferAsync(l.RemoteHandle!.Value, 7, [1], more: true);
                await talk!.TransferAsync(l.RemoteHandle!.Value, 8, [2]);
            }, "delivery 8 began in the middle of delivery 7"),
            (async l =>
            {
                for (var i = 0u; i < 5 + 40 + 1; i++)
                    await talk!.TransferAsync(l.RemoteHandle!.Value, 10 + i, Message());
            }, "there was no credit"),
        ];
        foreach (var (act, reason) in wrongs)
        {
            var link = await session.AttachReceiverAsync($"in {reason}", "taps", Cancel);
            link.Grant(5);
            await act(link);
            await link.Gone.WaitAsync(Limit, Cancel);
            Assert.Contains(reason, link.WhyGone!.Message, StringComparison.Ordinal);
            Assert.Contains(reason, (await peer.HeardAsync<Detach>(d => d.Error?.Description?.Contains(
                reason, StringComparison.Ordinal) == true)).Error!.Description!, StringComparison.Ordinal);
        }
        Assert.Null(connection.WhyEnded);
        await using var sending = await session.AttachSenderAsync("out", "taps", Cancel);
        Assert.IsType<Accepted>((await SendAsync(sending, Limit, Message())).Outcomes[0]);
    }

    [Fact]
    public async Task A_window_is_opened_again_before_it_is_used_up()
    {
        await using var peer = new ScriptedPeer();
        var (connection, session) = await BeginAsync(peer);
        await using var _ = connection;
        Talk? talk = null;
        peer.On = (t, told) => Task.FromResult((talk = t) is null || told.Performative is FlowState);
        await using var link = await session.AttachReceiverAsync("in", "taps", Cancel);
        link.Grant(100_000);
        await peer.HeardAsync<FlowState>();
        for (var i = 0u; i < 10_000; i++) await talk!.TransferAsync(0, i, [0x00, 0x53, 0x75, 0xa0, 0x00]);
        var seen = 0;
        while (seen < 10_000) seen += (await link.ReceiveAsync(10_000, int.MaxValue, Cancel)).Count;
        Assert.Null(link.WhyGone);
        var opened = await peer.HeardAsync<FlowState>(f => f.Handle is null && f.NextIncomingId >= 8000);
        Assert.True(opened.IncomingWindow >= 4000);
    }

    [Fact]
    public async Task A_peer_that_never_answers_is_not_waited_for_for_ever()
    {
        byte[] steps =
        [
            Performative.SaslInit, Performative.Open, Performative.Begin, Performative.Attach, Performative.Transfer,
            Performative.Detach, Performative.End, Performative.Close,
        ];
        var errors = new List<string>();
        foreach (var step in steps)
        {
            await using var peer = new ScriptedPeer { Messages = [Message(), Message(2)] };
            peer.On = (_, told) => Task.FromResult(told.Code == step);
            try
            {
                await ConverseAsync(peer.Address, Impatient).WaitAsync(Limit, Cancel);
                errors.Add("");
            }
            catch (AmqpException e)
            {
                errors.Add(e.Message);
            }
        }
        Assert.Contains("it has not let us in within 0.2 s", errors[0], StringComparison.Ordinal);
        Assert.Contains("within 0.2 s", errors[1], StringComparison.Ordinal);
        Assert.Contains("has not answered the beginning of a session within 0.2 s", errors[2],
            StringComparison.Ordinal);
        Assert.Contains("the attaching of a link to 'taps' within 0.2 s", errors[3], StringComparison.Ordinal);
        Assert.Contains("has not said within 0.2 s what became of messages to 'taps': it has them", errors[4],
            StringComparison.Ordinal);
        // What is over is over, whether the peer says so or not.
        Assert.Equal(["", "", ""], errors[5..]);
    }

    [Fact]
    public async Task A_peer_that_says_nothing_at_all_is_not_waited_for_for_ever()
    {
        await using var peer = new ScriptedPeer { CutAfter = 0, Freezes = true };
        var error = await Assert.ThrowsAsync<AmqpException>(() => Peers.ConnectAsync(peer.Address, Impatient));
        Assert.Contains("it has not let us in within 0.2 s", error.Message, StringComparison.Ordinal);
        Assert.True(error.IsTransient);
    }

    [Fact]
    public async Task Without_credit_nothing_is_sent_and_the_reason_is_said()
    {
        await using var peer = new ScriptedPeer { Credit = 1 };
        var (connection, session) = await BeginAsync(peer);
        await using var _ = connection;
        await using var link = await session.AttachSenderAsync("out", "taps", Cancel);
        var sent = await SendAsync(link, TimeSpan.FromMilliseconds(200), Message(), Message(2));
        Assert.IsType<Accepted>(sent.Outcomes[0]);
        Assert.Null(sent.Outcomes[1]);
        Assert.Contains("it gives no credit for more", sent.WhyNot!.Message, StringComparison.Ordinal);
        // What nobody waits for any more is not sent when there is credit again.
        using var limit = new CancellationTokenSource(TimeSpan.FromMilliseconds(100));
        await Assert.ThrowsAnyAsync<OperationCanceledException>(
            () => link.SendAsync([Message(3)], static (m, to) => to.Bytes(m), Limit, limit.Token));
        var pending = SendAsync(link, Limit, Message(4));
        peer.On = async (t, told) =>
        {
            if (told.Performative is not End) return false;
            await t.FlowAsync(new FlowState { Handle = 0, DeliveryCount = 1, LinkCredit = 10 });
            return true;
        };
        lock (connection.Gate)
        {
            // Something that the peer answers with credit.
            connection.Send(0, End.Shape, new End());
            connection.Flush();
        }
        Assert.IsType<Accepted>((await pending).Outcomes[0]);
        Assert.Equal(2, peer.Heard.Count(t => t.Performative is Transfer));
    }

    [Fact]
    public async Task A_detach_says_why_to_all_who_wait()
    {
        await using var peer = new ScriptedPeer { Credit = 1 };
        var (connection, session) = await BeginAsync(peer);
        await using var _ = connection;
        Talk? talk = null;
        peer.On = (t, told) => Task.FromResult((talk = t) is null || told.Performative is Transfer or FlowState);
        var sending = await session.AttachSenderAsync("out", "taps", Cancel);
        var receiving = await session.AttachReceiverAsync("in", "taps", Cancel);
        var sent = SendAsync(sending, Limit, Message(), Message(2));
        var received = receiving.ReceiveAsync(1, 1, Cancel);
        var available = receiving.AvailableAsync(Limit, Cancel);
        await peer.HeardAsync<Transfer>();
        // In the middle of a message, too.
        receiving.Grant(5);
        await talk!.TransferAsync(1, 0, [1, 2, 3], more: true);
        var redirect = new AmqpError
        {
            Condition = Conditions.LinkRedirect,
            Info = new() { { new Symbol("network-host"), "ferry-2" }, { new Symbol("port"), (ushort)5672 } },
        };
        await talk.SendAsync(Detach.Shape, new Detach { Handle = 0, Closed = true, Error = redirect });
        await talk.SendAsync(Detach.Shape, new Detach { Handle = 1, Closed = true });
        var outcome = await sent.WaitAsync(Limit, Cancel);
        Assert.Equal([null, null], outcome.Outcomes);
        Assert.Contains("detached by the peer: amqp:link:redirect (to ferry-2:5672)", outcome.WhyNot!.Message,
            StringComparison.Ordinal);
        Assert.False(outcome.WhyNot.IsTransient);
        Assert.Contains("detached by the peer: it gave no reason",
            (await Assert.ThrowsAsync<AmqpException>(() => received.WaitAsync(Limit, Cancel))).Message,
            StringComparison.Ordinal);
        await Assert.ThrowsAsync<AmqpException>(() => available.WaitAsync(Limit, Cancel));
        // Both ends are detached, as the peer began it.
        Assert.True((await peer.HeardAsync<Detach>(d => d.Handle == 0)).Closed);
        Assert.True((await peer.HeardAsync<Detach>(d => d.Handle == 1)).Closed);
        Assert.Null(connection.WhyEnded);
    }

    [Fact]
    public async Task A_link_that_is_refused_says_why_and_one_that_would_lose_events_is_not_used()
    {
        await using var peer = new ScriptedPeer();
        peer.On = async (talk, told) =>
        {
            if (told.Performative is not Attach attach) return false;
            var settles = attach.Source?.Address is "settled";
            await talk.SendAsync(Attach.Shape, new Attach
            {
                Name = attach.Name, Handle = attach.Handle, IsReceiver = !attach.IsReceiver,
                Source = settles ? attach.Source : null, SenderSettles = settles ? SettleMode.Settled
                    : SettleMode.Mixed,
            });
            if (!settles)
                await talk.SendAsync(Detach.Shape, new Detach
                {
                    Handle = attach.Handle, Closed = true, Error = AmqpError.Of(Conditions.NotFound, "no such place"),
                });
            return true;
        };
        var (connection, session) = await BeginAsync(peer);
        await using var _ = connection;
        foreach (var attaching in new Func<Task>[]
        {
            () => session.AttachReceiverAsync("in", "taps", Cancel), () =>
                session.AttachSenderAsync("out", "taps", Cancel),
        })
        {
            var error = await Assert.ThrowsAsync<AmqpException>(attaching);
            Assert.Contains("was refused: amqp:not-found: no such place", error.Message, StringComparison.Ordinal);
        }
        var settled = await Assert.ThrowsAsync<AmqpException>(
            () => session.AttachReceiverAsync("settled", "settled", Cancel));
        Assert.Contains("would lose what is not handled", settled.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Frames_and_windows_of_the_peer_are_kept_to()
    {
        await using var peer = new ScriptedPeer
        {
            Open = new() { ContainerId = "small", MaxFrameSize = 512 }, IncomingWindow = 3, Credit = 100,
        };
        var largest = 0;
        peer.On = (_, told) =>
        {
            if (told.Performative is Transfer) largest = Math.Max(largest, told.Payload.Length);
            return Task.FromResult(false);
        };
        var (connection, session) = await BeginAsync(peer);
        await using var _ = connection;
        await using var link = await session.AttachSenderAsync("out", "taps", Cancel);
        byte[][] messages = [new byte[100_000], Message(), new byte[512], new byte[450], new byte[470]];
        for (var i = 0; i < messages.Length; i++) new Random(i).NextBytes(messages[i]);
        Assert.All((await SendAsync(link, Limit, messages)).Outcomes, o => Assert.IsType<Accepted>(o));
        Assert.InRange(largest, 400, 500);
        var transfers = peer.Heard.Where(t => t.Performative is Transfer).ToList();
        var whole = new List<byte[]>();
        var current = new List<byte>();
        foreach (var told in transfers)
        {
            current.AddRange(told.Payload);
            if (((Transfer)told.Performative).More) continue;
            whole.Add([.. current]);
            current.Clear();
        }
        Assert.Equal(messages, whole);
    }

    [Fact]
    public async Task No_more_is_sent_than_the_window_has_room_for()
    {
        await using var peer = new ScriptedPeer { IncomingWindow = 3, Credit = 100 };
        peer.On = (_, told) => Task.FromResult(told.Performative is Transfer);
        var (connection, session) = await BeginAsync(peer);
        await using var _ = connection;
        await using var link = await session.AttachSenderAsync("out", "taps", Cancel);
        var sending = SendAsync(link, Limit, [.. Enumerable.Range(0, 10).Select(Message)]);
        await peer.HeardAsync<Transfer>(t => t.DeliveryId == 2);
        // What follows comes behind whatever was sent.
        await using (await session.AttachReceiverAsync("in", "taps", Cancel))
            Assert.Equal(3, peer.Heard.Count(t => t.Performative is Transfer));
        Assert.False(sending.IsCompleted);
    }

    [Fact]
    public async Task Credit_that_a_peer_wants_back_is_given_back()
    {
        await using var peer = new ScriptedPeer { Credit = 7 };
        Talk? talk = null;
        peer.On = (t, _) => Task.FromResult((talk = t) is null);
        var (connection, session) = await BeginAsync(peer);
        await using var _ = connection;
        await using var link = await session.AttachSenderAsync("out", "taps", Cancel);
        Assert.IsType<Accepted>((await SendAsync(link, Limit, Message())).Outcomes[0]);
        await talk!.FlowAsync(new FlowState { Handle = 0, DeliveryCount = 1, LinkCredit = 5, Drain = true });
        var flow = await peer.HeardAsync<FlowState>();
        Assert.Equal((0u, 6u, 0u, true), (flow.Handle, flow.DeliveryCount, flow.LinkCredit, flow.Drain));
        Assert.Equal(0u, link.Credit);
    }

    /// <summary>Its attaching is the first answer; after that it is asked for one now and then.</summary>
    [Fact]
    public async Task How_far_away_the_peer_is_follows_from_its_answers()
    {
        await using var peer = new ScriptedPeer();
        var (connection, session) = await BeginAsync(peer);
        await using var _ = connection;
        await using var link = await session.AttachReceiverAsync("in", "taps", Cancel);
        var attached = link.RoundTrip;
        Assert.True(attached > TimeSpan.Zero);

        var grants = 0u;
        using var limit = new CancellationTokenSource(Limit);
        while (link.RoundTrip == attached)
        {
            link.Grant(1 + (grants++ % 2));
            await Task.Delay(10, limit.Token);
        }
        Assert.True(link.RoundTrip > TimeSpan.Zero);
    }

    [Fact]
    public async Task A_message_larger_than_the_peer_takes_costs_only_itself()
    {
        await using var peer = new ScriptedPeer();
        peer.On = async (talk, told) =>
        {
            if (told.Performative is not Attach attach) return false;
            await talk.SendAsync(Attach.Shape, new Attach
            {
                Name = attach.Name, Handle = attach.Handle, IsReceiver = true, Source = attach.Source,
                Target = attach.Target, MaxMessageSize = 1000,
            });
            await talk.FlowAsync(new FlowState { Handle = attach.Handle, LinkCredit = 10 });
            return true;
        };
        var (connection, session) = await BeginAsync(peer);
        await using var _ = connection;
        await using var link = await session.AttachSenderAsync("out", "taps", Cancel);
        var sent = await link.SendAsync([Message(), new byte[1001], null!, Message()], static (m, to) => to.Bytes(
            m ?? throw new InvalidOperationException("it cannot be written")), Limit, Cancel);
        Assert.IsType<Accepted>(sent.Outcomes[0]);
        Assert.Equal("rejected: amqp:link:message-size-exceeded: the message has 1001 bytes, and 'taps' takes 1000",
            sent.Outcomes[1]!.ToString());
        Assert.Contains("it cannot be written", sent.Outcomes[2]!.ToString(), StringComparison.Ordinal);
        Assert.IsType<Accepted>(sent.Outcomes[3]);
    }

    [Fact]
    public async Task Messages_of_two_links_may_come_in_each_other()
    {
        await using var peer = new ScriptedPeer();
        Talk? talk = null;
        peer.On = (t, told) => Task.FromResult((talk = t) is null || told.Performative is FlowState);
        var (connection, session) = await BeginAsync(peer);
        await using var _ = connection;
        var one = await session.AttachReceiverAsync("one", "one", Cancel);
        var two = await session.AttachReceiverAsync("two", "two", Cancel);
        one.Grant(2);
        two.Grant(1);
        await talk!.TransferAsync(0, 0, [1], more: true);
        await talk.TransferAsync(1, 1, [2], more: true);
        await talk.TransferAsync(0, null, [3]);
        await talk.TransferAsync(1, 1, [4]);
        Assert.Equal([1, 3], (await one.ReceiveAsync(1, 9, Cancel))[0].Message.ToArray());
        Assert.Equal([2, 4], (await two.ReceiveAsync(1, 9, Cancel))[0].Message.ToArray());
        // One that the peer takes back in the middle is as if it had never begun.
        await talk.TransferAsync(0, 2, [5], more: true);
        await talk.SendAsync(Transfer.Shape, new Transfer { Handle = 0, Aborted = true });
        // It has used up its credit all the same, and there is other for it (section 2.6.14).
        await peer.HeardAsync<FlowState>(f => f is { Handle: 0, DeliveryCount: 2, LinkCredit: 1 });
        await talk.TransferAsync(0, 3, [6]);
        Assert.Equal([6], (await one.ReceiveAsync(1, 9, Cancel))[0].Message.ToArray());
    }

    [Fact]
    public async Task Of_a_message_that_is_too_large_the_head_comes_and_what_follows_comes_whole()
    {
        await using var peer = new ScriptedPeer();
        Talk? talk = null;
        peer.On = (t, told) => Task.FromResult((talk = t) is null || told.Performative is FlowState);
        var (connection, session) = await BeginAsync(peer, h => Peers.Settings(h) with { MaxMessageSize = 1000 });
        await using var _ = connection;
        await using var link = await session.AttachReceiverAsync("in", "taps", Cancel);
        link.Grant(5);
        for (var i = 0; i < 30; i++)
            await talk!.TransferAsync(0, i == 0 ? 9u : null, [.. Enumerable.Repeat((byte)i, 100)], more: i < 29);
        await talk!.TransferAsync(0, 10, [7]);
        List<Arrival> come = [];
        while (come.Count < 2) come.AddRange(await link.ReceiveAsync(5, int.MaxValue, Cancel));
        Assert.Equal((3000L, 1000), (come[0].Whole, come[0].Message.Length));
        Assert.All(Enumerable.Range(0, 1000), i => Assert.Equal(i / 100, come[0].Message.Span[i]));
        Assert.Equal((null, 1), (come[1].Whole, come[1].Message.Length));
        link.Settle(come.Select(a => new Verdict(a.Id, DeliveryState.Accepted)));
        Assert.Equal(10u, (await peer.HeardAsync<Disposition>()).Last);
        Assert.Equal(3u, link.Credit);
    }

    /// <summary>Any number is legal (section 2.7.1), and there is another connection once all are taken.</summary>
    [Theory]
    [InlineData(0)]
    [InlineData(4)]
    [InlineData(254)]
    [InlineData(255)]
    [InlineData(4999)]
    public async Task A_peer_may_allow_any_number_of_sessions(int channelMax)
    {
        await using var peer = new LegalPeer(0);
        peer.Habits.Open.ChannelMax = (ushort)channelMax;
        (peer.Habits.Refuses, peer.Habits.Breaks) = (0, 0);
        await using var connection = await Peers.ConnectAsync(peer.Address);
        var sessions = new List<Session>();
        for (var i = 0; i <= Math.Min(channelMax, 600); i++) sessions.Add(await connection.BeginSessionAsync(Cancel));
        if (channelMax <= 600)
        {
            Assert.Null(await connection.TryBeginSessionAsync(Cancel));
            var full = await Assert.ThrowsAsync<AmqpException>(() => connection.BeginSessionAsync(Cancel));
            Assert.Contains($"no more than {channelMax + 1} sessions", full.Message, StringComparison.Ordinal);
        }
        // Each number is free again once its session has ended.
        await sessions[sessions.Count / 2].DisposeAsync();
        Assert.NotNull(await connection.TryBeginSessionAsync(Cancel));
        Assert.Equal(sessions.Count, sessions.Select(s => s.Channel).Distinct().Count());

        await using var connections = new Connections(Peers.Parse(peer.Address), TimeProvider.System);
        for (var i = 0; i < 10; i++) await connections.BeginSessionAsync(Cancel);
        Assert.Equal(1 + (int)Math.Ceiling(10.0 / (channelMax + 1)), peer.Conversations);
        Assert.Empty(peer.Complaints);
    }

    [Fact]
    public async Task Outcomes_come_in_ranges_of_any_size_and_unsettled_too()
    {
        await using var peer = new ScriptedPeer { Credit = 100 };
        Talk? talk = null;
        peer.On = (t, told) => Task.FromResult((talk = t) is null || told.Performative is Transfer);
        var (connection, session) = await BeginAsync(peer);
        await using var _ = connection;
        await using var link = await session.AttachSenderAsync("out", "taps", Cancel);
        var sent = SendAsync(link, Limit, [.. Enumerable.Range(0, 6).Select(Message)]);
        await peer.HeardAsync<Transfer>(t => t.DeliveryId == 5);
        Disposition[] said =
        [
            new() { First = 0, State = new Received { SectionNumber = 1 } },
            new() { First = 0, Last = 1, State = DeliveryState.Accepted },
            new() { First = 2, Settled = true },
            new() { First = 3, Last = 3 + (uint)int.MaxValue, Settled = true, State = DeliveryState.Released },
        ];
        // A state of another specification: what becomes of the first is still to be said.
        await talk!.RawAsync(Convert.FromHexString("0000001602000000005315c009054143434200533445"));
        foreach (var disposition in said)
        {
            disposition.IsReceiver = true;
            await talk!.SendAsync(Disposition.Shape, disposition);
        }
        var outcomes = (await sent.WaitAsync(Limit, Cancel)).Outcomes;
        Assert.Equal(["accepted", "accepted", "in a state that is not known here", "released", "released", "released"],
            outcomes.Select(o => o!.ToString()));
        // The last word is the sender's, where the peer left it to it.
        Assert.True((await peer.HeardAsync<Disposition>(d => d is { First: 0, Last: 1, IsReceiver: false })).Settled);
    }

    [Fact]
    public async Task A_peer_that_falls_silent_is_noticed_and_one_that_listens_is_not_left_in_silence()
    {
        await using var peer = new ScriptedPeer { Open = new() { ContainerId = "anxious", IdleTimeOut = 400 } };
        var (connection, _) = await BeginAsync(peer, h => Peers.Settings(h) with
        {
            IdleTimeOut = TimeSpan.FromMilliseconds(800),
        });
        await using var __ = connection;
        await connection.Ended.WaitAsync(Limit, Cancel);
        Assert.Contains("nothing came for 0.8 s", connection.WhyEnded!.Message, StringComparison.Ordinal);
        Assert.Equal(Conditions.ResourceLimitExceeded, (await peer.HeardAsync<Close>()).Error!.Condition.Text);
        Assert.True(peer.Heard.Count(t => t.Performative is "nothing") >= 2, "it has heard nothing between");
        Assert.Equal(400u, (await peer.HeardAsync<Open>()).IdleTimeOut);
    }

    [Theory]
    [InlineData(100u, null, "max-frame-size is 100")]
    [InlineData(4096u, 1u, "idle-time-out is 1 ms")]
    public async Task What_a_peer_may_not_ask_for_is_refused(uint frames, uint? idle, string reason)
    {
        await using var peer = new ScriptedPeer
        {
            Open = new() { ContainerId = "odd", MaxFrameSize = frames, IdleTimeOut = idle },
        };
        var error = await Assert.ThrowsAsync<AmqpException>(() => Peers.ConnectAsync(peer.Address));
        Assert.Contains(reason, error.Message, StringComparison.Ordinal);
        Assert.False(error.IsTransient);
    }

    /// <summary>What is settled has been heard once an answer has come to what was asked behind it.</summary>
    [Fact]
    public async Task What_was_said_is_known_to_be_heard_by_an_answer_or_by_nothing_where_the_peer_gives_none()
    {
        await using var peer = new ScriptedPeer { Messages = [Message(), Message(2)] };
        Func<Task>? answer = null;
        var asked = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        peer.On = (talk, told) =>
        {
            if (told.Performative is not FlowState { Echo: true, LinkCredit: 0 } flow) return Task.FromResult(false);
            answer = () => talk.AnswerAsync(told);
            asked.TrySetResult();
            return Task.FromResult(true);
        };
        var clock = new FakeTimeProvider();
        var (connection, session) = await BeginAsync(peer, h => Peers.Settings(h) with { Clock = clock });
        await using var _ = connection;
        var link = await session.AttachReceiverAsync("in", "taps", Cancel);
        link.Grant(2);
        for (var left = 2; left > 0;)
        {
            var arrivals = await link.ReceiveAsync(2, int.MaxValue, Cancel);
            link.Settle(arrivals.Select(a => new Verdict(a.Id, DeliveryState.Accepted)));
            left -= arrivals.Count;
        }
        var heard = link.HeardAsync(Cancel);
        await asked.Task.WaitAsync(Limit, Cancel);
        Assert.Contains(peer.Heard, t => t.Performative is Disposition { Settled: true } d && (d.Last ?? d.First) == 1);
        Assert.False(heard.IsCompleted);
        await answer!();
        await heard.WaitAsync(Limit, Cancel);

        // This one gets no answer; and the next one is not even asked.
        (asked, heard) = (new(), link.HeardAsync(Cancel));
        await asked.Task.WaitAsync(Limit, Cancel);
        clock.Advance(TimeSpan.FromSeconds(11));
        await heard.WaitAsync(Limit, Cancel);
        Assert.True(link.HeardAsync(Cancel).IsCompletedSuccessfully);
        await connection.DisposeAsync();
        await Assert.ThrowsAsync<AmqpException>(() => link.HeardAsync(Cancel));
    }

    [Fact]
    public async Task On_a_link_that_is_being_detached_nothing_more_is_said()
    {
        await using var peer = new ScriptedPeer();
        peer.On = async (talk, told) =>
        {
            if (told.Performative is not Detach detach) return false;
            await talk.FlowAsync(
                new FlowState { Handle = detach.Handle, DeliveryCount = 0, LinkCredit = 5, Echo = true });
            await talk.TransferAsync(detach.Handle, 0, Message());
            return false;
        };
        var (connection, session) = await BeginAsync(peer);
        await using var _ = connection;
        await (await session.AttachReceiverAsync("in", "taps", Cancel)).DisposeAsync();
        await session.DisposeAsync();
        Assert.DoesNotContain(peer.Heard, t => t.Performative is FlowState);
        Assert.Null((await peer.HeardAsync<End>()).Error);
    }

    [Fact]
    public async Task A_close_says_why_to_all_who_wait()
    {
        await using var peer = new ScriptedPeer();
        Talk? talk = null;
        peer.On = (t, told) => Task.FromResult((talk = t) is null || told.Performative is Transfer);
        var (connection, session) = await BeginAsync(peer);
        await using var _ = connection;
        var link = await session.AttachSenderAsync("out", "taps", Cancel);
        var sent = SendAsync(link, Limit, Message());
        await peer.HeardAsync<Transfer>();
        await talk!.SendAsync(Close.Shape,
            new Close { Error = AmqpError.Of("amqp:connection:forced", "it is\nnight") });
        Assert.Contains("closed the connection: amqp:connection:forced: it is night",
            (await sent.WaitAsync(Limit, Cancel)).WhyNot!.Message, StringComparison.Ordinal);
        await peer.HeardAsync<Close>();
    }

    [Fact]
    public async Task Random_frames_end_in_an_error_or_in_nothing()
    {
        foreach (var seed in Fuzz.Seeds) await FramesAsync(seed, rounds: 150);
    }

    /// <summary>Feeds connections with frames that nobody meant.</summary>
    private static async Task FramesAsync(int seed, int rounds)
    {
        var random = new Random(seed);
        byte[][] sound = [.. Samples.Frames()];
        for (var round = 0; round < rounds; round++)
        {
            await using var peer = new ScriptedPeer { Messages = [Message(), Message(2)] };
            var (step, left) = (random.Next(4, 12), 0);
            peer.On = async (talk, _) =>
            {
                if (++left < step) return false;
                for (var i = 0; i < 10; i++)
                {
                    var body = Fuzz.Bytes(random, sound);
                    var size = random.Next(10) == 0 ? random.Next() : body.Length + 8;
                    await talk.RawAsync([(byte)(size >> 24), (byte)(size >> 16), (byte)(size >> 8), (byte)size,
                        2, 0, 0, 0, .. body]);
                }
                return false;
            };
            try
            {
                await ConverseAsync(peer.Address, Impatient).WaitAsync(Limit, Cancel);
            }
            catch (Exception e) when (e is AmqpException or OperationCanceledException or Xunit.Sdk.XunitException)
            {
                Assert.IsNotType<TimeoutException>(e);
            }
        }
    }
}
