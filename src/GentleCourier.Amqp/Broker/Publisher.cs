using GentleCourier.Amqp.Events;
using GentleCourier.Amqp.Messages;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;
using GentleCourier.Engines;

namespace GentleCourier.Amqp.Broker;

/// <summary>An event that is published, with what is said along with it.</summary>
internal readonly record struct Publication(ReadOnlyMemory<byte> Json, Notes Notes);

/// <summary>
/// Publishes to addresses, each over sessions and a link of its own that are kept: an address that a peer does not
/// want, or does not answer for, keeps nothing from the others. There are peers that accept what they then drop, since
/// the queue is not there: so each queue is watched by a link that receives nothing, and is gone with it. Thread-safe.
/// </summary>
internal sealed class Publisher(LastingConnection lasting) : IAsyncDisposable
{
    private readonly Lock gate = new();
    private Places? places;

    /// <summary>Publishes to one address, in order, many on their way at once.</summary>
    /// <param name="address">The address.</param>
    /// <param name="isQueue">Whether it is a queue, which has to be there.</param>
    /// <param name="events">The events.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <exception cref="AmqpException">The connection is lost: what was published is not known.</exception>
    public async Task<Sent> SendAsync(
        string address, bool isQueue, IReadOnlyList<Publication> events, CancellationToken cancellationToken)
    {
        var connection = await lasting.GetAsync(cancellationToken).ConfigureAwait(false);
        var (place, writer) = PlaceOf(connection, address, isQueue);
        var limit = place.Patience;
        Sent sent;
        try
        {
            var link = await place.LinkAsync().WaitAsync(limit, cancellationToken).ConfigureAwait(false);
            sent = await link.SendAsync(
                events, (e, to) => writer.Write(e.Json, to, e.Notes), limit, cancellationToken).ConfigureAwait(false);
        }
        catch (AmqpException e)
        {
            sent = new Sent(new DeliveryState?[events.Count], e);
        }
        catch (TimeoutException)
        {
            sent = new Sent(new DeliveryState?[events.Count], new AmqpException(
                $"{connection.Settings.Peer} has not said within {limit.TotalSeconds:0.#} s whether it takes messages "
                + $"to '{address}'"));
        }
        place.Answered(sent.WhyNot is null);
        return sent.WhyNot is { } why && connection.WhyEnded is not null ? throw why : sent;
    }

    /// <summary>
    /// What it means for an event. What has not been sent is not to blame for it, as what was may be: there are peers
    /// that end the link with a message that they do not take.
    /// </summary>
    public static PublishResult ResultOf(in Sent sent, int index) => sent.Outcomes[index] switch
    {
        Accepted => PublishResult.Taken,
        Rejected { Error: { } error } when error.Condition.Text is Conditions.MessageSizeExceeded
            or Conditions.InvalidField or Conditions.DecodeError => PublishResult.Refused($"{error}"),
        Rejected rejected => PublishResult.Deferred(
            $"the broker rejected it: {rejected.Error?.ToString() ?? "no reason"}"),
        null when index >= sent.Count && sent.WhyNot is { } why => PublishResult.Unreachable(why.Message),
        null => PublishResult.Deferred(sent.WhyNot?.Message ?? "the broker has not said what became of it"),
        _ => PublishResult.Deferred("the broker gave it back"),
    };

    public ValueTask DisposeAsync()
    {
        places?.Writer.Dispose();
        return ValueTask.CompletedTask;
    }

    private (PublishingPlace Place, CloudEventWriter Writer) PlaceOf(
        Connection connection, string address, bool isQueue)
    {
        lock (gate)
        {
            if (places?.Connection != connection)
            {
                places?.Writer.Dispose();
                places = new Places(connection, new CloudEventWriter(), new(StringComparer.Ordinal));
            }
            if (!places.ByAddress.TryGetValue(address, out var place))
                places.ByAddress[address] = place = new PublishingPlace(connection, address, isQueue);
            return (place, places.Writer);
        }
    }

    /// <param name="Connection">By which they go.</param>
    /// <param name="Writer">Used under the connection's lock only.</param>
    /// <param name="ByAddress">The places.</param>
    private sealed record Places(
        Connection Connection, CloudEventWriter Writer, Dictionary<string, PublishingPlace> ByAddress);
}
