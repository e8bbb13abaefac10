using System.Collections.Concurrent;
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
/// want, or does not answer for, keeps nothing from the others. Thread-safe.
/// </summary>
internal sealed class Publisher(Connections connections) : IAsyncDisposable
{
    private readonly ConcurrentDictionary<string, PublishingPlace> places = new(StringComparer.Ordinal);

    /// <summary>Publishes to one address, in order, many on their way at once.</summary>
    /// <param name="address">The address.</param>
    /// <param name="isQueue">Whether it is a queue, which has to be there.</param>
    /// <param name="events">The events.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <exception cref="AmqpException">The connection is lost: what was published is not known.</exception>
    public async Task<Sent> SendAsync(
        string address, bool isQueue, IReadOnlyList<Publication> events, CancellationToken cancellationToken)
    {
        var connection = await connections.GetAsync(cancellationToken).ConfigureAwait(false);
        var place = places.GetOrAdd(address, a => new PublishingPlace(connections, a, isQueue));
        var limit = place.Patience;
        Sent sent;
        try
        {
            var (link, guard, _) = await place.OpenedAsync().WaitAsync(limit, cancellationToken).ConfigureAwait(false);
            connection = link.Connection;
            // Somebody watches while they are on their way: what was taken without the queue is to be sent again.
            var watched = guard?.WatchAsync() ?? Task.CompletedTask;
            sent = await link.SendAsync(events, (e, to) => place.Writer.Write(e.Json, to, e.Notes), limit,
                cancellationToken).ConfigureAwait(false);
            await watched.WaitAsync(limit, cancellationToken).ConfigureAwait(false);
            if (guard?.WhyGone is { } why) sent = new Sent(new DeliveryState?[events.Count], why, sent.Count);
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
        return sent.WhyNot is { } whyNot && connection.WhyEnded is not null ? throw whyNot : sent;
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

    public async ValueTask DisposeAsync()
    {
        foreach (var place in places.Values) await place.DisposeAsync().ConfigureAwait(false);
    }
}
