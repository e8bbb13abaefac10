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
/// Publishes to addresses, each over a session and a link of its own that are kept: an address that a peer does not want
/// keeps nothing from the others. Thread-safe.
/// </summary>
internal sealed class Publisher(LastingConnection lasting) : IAsyncDisposable
{
    /// <summary>How long it may take to publish a batch.</summary>
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(30);

    private readonly SemaphoreSlim turn = new(1, 1);
    private Links? links;

    /// <summary>Publishes to one address, in order, many on their way at once.</summary>
    /// <exception cref="AmqpException">The connection is lost: what was published is not known.</exception>
    public async Task<Sent> SendAsync(
        string address, IReadOnlyList<Publication> events, CancellationToken cancellationToken)
    {
        var connection = await lasting.GetAsync(cancellationToken).ConfigureAwait(false);
        Sent sent;
        try
        {
            var (link, writer) = await LinkAsync(connection, address, cancellationToken).ConfigureAwait(false);
            sent = await link.SendAsync(
                events, (e, to) => writer.Write(e.Json, to, e.Notes), Limit, cancellationToken).ConfigureAwait(false);
        }
        catch (AmqpException e)
        {
            sent = new Sent(new DeliveryState?[events.Count], e);
        }
        return sent.WhyNot is { } why && connection.WhyEnded is not null ? throw why : sent;
    }

    /// <summary>What it means for an event.</summary>
    public static PublishResult ResultOf(DeliveryState? outcome, AmqpException? whyNot) => outcome switch
    {
        Accepted => PublishResult.Taken,
        Rejected { Error: { } error } when error.Condition.Text is Conditions.MessageSizeExceeded
            or Conditions.InvalidField or Conditions.DecodeError => PublishResult.Refused($"{error}"),
        Rejected rejected => PublishResult.Deferred($"the broker rejected it: {rejected.Error?.ToString() ?? "no reason"}"),
        null => PublishResult.Deferred(whyNot?.Message ?? "the broker has not said what became of it"),
        _ => PublishResult.Deferred("the broker gave it back"),
    };

    public ValueTask DisposeAsync()
    {
        links?.Writer.Dispose();
        turn.Dispose();
        return ValueTask.CompletedTask;
    }

    private async Task<(SendingLink Link, CloudEventWriter Writer)> LinkAsync(
        Connection connection, string address, CancellationToken cancellationToken)
    {
        await turn.WaitAsync(cancellationToken).ConfigureAwait(false);
        try
        {
            if (links?.Connection != connection)
            {
                links?.Writer.Dispose();
                links = new Links(connection, new CloudEventWriter(), new(StringComparer.Ordinal));
            }
            if (links.Senders.TryGetValue(address, out var known) && known.WhyGone is null)
                return (known, links.Writer);
            var session = await connection.BeginSessionAsync(cancellationToken).ConfigureAwait(false);
            try
            {
                var link = await session.AttachSenderAsync($"{Guid.NewGuid():n}", address, cancellationToken)
                    .ConfigureAwait(false);
                links.Senders[address] = link;
                return (link, links.Writer);
            }
            catch
            {
                await session.DisposeAsync().ConfigureAwait(false);
                throw;
            }
        }
        finally
        {
            turn.Release();
        }
    }

    /// <param name="Connection">By which they go.</param>
    /// <param name="Writer">Used under the connection's lock only.</param>
    /// <param name="Senders">By their address.</param>
    private sealed record Links(
        Connection Connection, CloudEventWriter Writer, Dictionary<string, SendingLink> Senders);
}
