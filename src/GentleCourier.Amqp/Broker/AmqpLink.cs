using System.Globalization;
using GentleCourier.Amqp.Events;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;
using GentleCourier.Amqp.Types;
using GentleCourier.Engines;
using GentleCourier.Events;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Amqp.Broker;

/// <summary>
/// A worker's link to one queue. What fails and what is set aside is a companion's, where the receiver has a store;
/// without one it is sent anew, with the count or the reason in the message, before the old one is accepted.
/// </summary>
internal sealed partial class AmqpLink(
    Session session, ReceivingLink link, Publisher publisher, AmqpAddress address, string queue,
    ILogger logger) : IReceivingLink
{
    private readonly CloudEventReader reader = new();
    private readonly Header header = new();
    private readonly Lock reading = new();
    private int asked;
    private bool saysSettled;

    public TimeSpan? RenewEvery => null;

    public TimeSpan? RoundTrip => link.RoundTrip;

    public async Task<IReadOnlyList<HandOver>> ReceiveAsync(int credit, CancellationToken cancellationToken)
    {
        ArgumentOutOfRangeException.ThrowIfNegativeOrZero(credit);
        Interlocked.Increment(ref asked);
        try
        {
            if (Take(link.TryReceive(credit, Budget.Bytes)) is { Count: > 0 } ready) return ready;
            link.TopUp((uint)credit);
            return Take(await link.ReceiveAsync(credit, Budget.Bytes, cancellationToken).ConfigureAwait(false));
        }
        catch (AmqpException e)
        {
            throw Lost(e);
        }
        finally
        {
            Interlocked.Decrement(ref asked);
        }
    }

    public async Task<Exchange> SettleAsync(
        IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken)
    {
        await SendAnewAsync(settlements, cancellationToken).ConfigureAwait(false);
        try
        {
            if (settlements.Count > 0)
                link.Settle(settlements.Where(s => !Of(s.Delivery).IsSettled).Select(s => new Verdict(
                    Of(s.Delivery).Id,
                    s.Outcome is Outcome.ReleasedOutcome ? DeliveryState.Released : DeliveryState.Accepted)));
            var taken = credit > 0 ? Take(link.TryReceive(credit, Budget.Bytes)) : [];
            if (credit > 0) link.TopUp((uint)(credit - taken.Count));
            return new Exchange([.. Enumerable.Repeat(true, settlements.Count)], taken);
        }
        catch (AmqpException e)
        {
            throw Lost(e);
        }
    }

    public async Task ConfirmAsync(CancellationToken cancellationToken)
    {
        try
        {
            await link.HeardAsync(cancellationToken).ConfigureAwait(false);
        }
        catch (AmqpException e)
        {
            throw Lost(e);
        }
    }

    public void Withdraw()
    {
        // Whoever waits has asked.
        if (Volatile.Read(ref asked) == 0) link.Withdraw();
    }

    public Task<IReadOnlyList<bool>> RenewAsync(
        IReadOnlyList<HandOver> deliveries, CancellationToken cancellationToken) =>
        throw new NotSupportedException("what is handed over by AMQP 1.0 is the link's for as long as that lives");

    public async ValueTask DisposeAsync()
    {
        await SendBackAsync().ConfigureAwait(false);
        await session.DisposeAsync().ConfigureAwait(false);
        reader.Dispose();
    }

    private List<HandOver> Take(IReadOnlyList<Arrival> arrivals)
    {
        lock (reading) return [.. arrivals.Select(Read)];
    }

    private HandOver Read(Arrival arrival)
    {
        if (arrival.IsSettled && !Volatile.Read(ref saysSettled))
        {
            Volatile.Write(ref saysSettled, true);
            LogSettledBeforehand(logger, queue);
        }
        var message = Message.AsFarAsSound(arrival.Message);
        try
        {
            if (arrival.Whole is { } whole)
                throw new UnreadableEventException(string.Create(CultureInfo.InvariantCulture,
                    $"the message has {whole:N0} bytes, more than {ConnectionSettings.LargestMessage:N0}"));
            if (message.Problem is { } problem)
                throw new UnreadableEventException($"the message is not sound: {problem}");
            var json = reader.Read(message);
            var (attempt, failedBefore) = AttemptOf(message);
            return new AmqpDelivery(arrival.Id, arrival.IsSettled, json, attempt) { FailedBefore = failedBefore };
        }
        // Whatever it is, it is this message's alone.
        catch (Exception e)
        {
            // Nobody begins it, so it is of no account how often somebody has.
            return new AmqpDelivery(arrival.Id, arrival.IsSettled, KeepOf(arrival, message), 1)
            {
                Problem = Words.Of(e),
            };
        }
    }

    private static ReadOnlyMemory<byte> KeepOf(Arrival arrival, in Message message) =>
        CloudEventReader.IsStructured(message) ? message.Body
            : Unread.KeepOf(arrival.Message, message, arrival.Whole);

    /// <summary>
    /// Which attempt it is: the first, as far as is known, unless somebody has had it before. Null: nobody has counted;
    /// then so many have failed before as the peer has counted.
    /// </summary>
    private (int? Attempt, int FailedBefore) AttemptOf(in Message message)
    {
        if (Notes.Of(message).Attempt is { } attempt) return (attempt, 0);
        if (message.Header.IsEmpty) return default;
        var from = new WireReader(message.Header.Span);
        Header.Shape.ReadFields(ref from, header);
        return header is { FirstAcquirer: true, DeliveryCount: 0 } ? (1, 0)
            : (null, (int)Math.Min(header.DeliveryCount, int.MaxValue / 2));
    }

    private async Task SendAnewAsync(IReadOnlyList<Settlement> settlements, CancellationToken cancellationToken)
    {
        foreach (var (delivery, outcome) in settlements)
        {
            if (outcome is Outcome.Modified { Counts: var counts })
            {
                var next = (delivery.Attempt ?? delivery.FailedBefore + 1) + (counts ? 1 : 0);
                await SendAsync(address.Of(queue), new(delivery.Json, new(next)), cancellationToken)
                    .ConfigureAwait(false);
            }
            else if (outcome is Outcome.ReleasedOutcome && Of(delivery).IsSettled)
            {
                await SendAsync(address.Of(queue), new(delivery.Json, new(delivery.Attempt)), cancellationToken)
                    .ConfigureAwait(false);
            }
            else if (outcome is Outcome.Rejected { Reason: var reason })
            {
                var place = address.DeadLetterAddress!.Replace("{queue}", queue, StringComparison.Ordinal);
                await SendAsync(place, new(delivery.Json, new(delivery.Attempt, reason)), cancellationToken)
                    .ConfigureAwait(false);
            }
        }
    }

    private async Task SendAsync(string place, Publication again, CancellationToken cancellationToken)
    {
        var sent = await publisher.SendAsync(place, isQueue: true, [again], cancellationToken).ConfigureAwait(false);
        var result = Publisher.ResultOf(sent, 0);
        if (result.Fate != PublishFate.Taken)
            throw new AmqpException($"an event of queue '{queue}' could not be sent to '{place}': {result.Reason}");
    }

    private static LinkLostException Lost(AmqpException e) => new(e.Message, e);

    private static AmqpDelivery Of(HandOver delivery) => delivery as AmqpDelivery
        ?? throw new ArgumentException("the delivery is of another link", nameof(delivery));

    /// <summary>What the peer has settled beforehand, and nobody has taken: only sent anew it is not lost.</summary>
    private async Task SendBackAsync()
    {
        try
        {
            foreach (var delivery in Take(link.TakeSettled()))
                await SendAsync(address.Of(queue), new(delivery.Json, default), CancellationToken.None)
                    .ConfigureAwait(false);
        }
        catch (Exception e)
        {
            LogNotSentBack(logger, queue, Words.Of(e));
        }
    }

    [LoggerMessage(601, LogLevel.Warning,
        "Queue {Queue}: the broker settles what it hands over beforehand, so that a kill loses it; have it send "
        + "unsettled messages to receivers that ask for them")]
    private static partial void LogSettledBeforehand(ILogger logger, string queue);

    [LoggerMessage(602, LogLevel.Error,
        "Queue {Queue}: what the broker had settled beforehand, and nobody had begun, could not be sent back: "
        + "{Problem}")]
    private static partial void LogNotSentBack(ILogger logger, string queue, string problem);

    private sealed class AmqpDelivery(uint id, bool isSettled, ReadOnlyMemory<byte> json, int? attempt)
        : HandOver(json, attempt, attempt == 1 ? 0 : null)
    {
        public uint Id => id;

        /// <summary>By the peer, beforehand.</summary>
        public bool IsSettled => isSettled;
    }
}
