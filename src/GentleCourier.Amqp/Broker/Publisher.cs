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
/// Publishes to addresses, each over a session and a link of its own that are kept: an address that a peer does not
/// want keeps nothing from the others. There are peers that accept what they then drop, since the queue is not there:
/// so each queue is watched by a link that receives nothing, and is gone with it. Thread-safe.
/// </summary>
internal sealed class Publisher(LastingConnection lasting) : IAsyncDisposable
{
    /// <summary>How long it may take to publish a batch.</summary>
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(30);

    private readonly SemaphoreSlim turn = new(1, 1);
    private Links? links;

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
        Sent sent;
        try
        {
            var (link, writer) = await LinkAsync(connection, address, isQueue, cancellationToken).ConfigureAwait(false);
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
        Rejected rejected => PublishResult.Deferred(
            $"the broker rejected it: {rejected.Error?.ToString() ?? "no reason"}"),
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
        Connection connection, string address, bool isQueue, CancellationToken cancellationToken)
    {
        await turn.WaitAsync(cancellationToken).ConfigureAwait(false);
        try
        {
            if (links?.Connection != connection)
            {
                links?.Writer.Dispose();
                links = new Links(connection, new CloudEventWriter(), new(StringComparer.Ordinal));
            }
            var known = links.Places.GetValueOrDefault(address);
            if (known is not { Sender.WhyGone: null, Guard: null or { WhyGone: null } })
            {
                if (links.Places.Remove(address)) await known!.EndAsync().ConfigureAwait(false);
                known = links.Places[address] = await OpenAsync(connection, address, isQueue, cancellationToken)
                    .ConfigureAwait(false);
            }
            return (known.Sender, links.Writer);
        }
        finally
        {
            turn.Release();
        }
    }

    private static async Task<Place> OpenAsync(
        Connection connection, string address, bool isQueue, CancellationToken cancellationToken)
    {
        List<Session> sessions = [];
        try
        {
            var guard = isQueue ? await GuardAsync().ConfigureAwait(false) : null;
            sessions.Add(await connection.BeginSessionAsync(cancellationToken).ConfigureAwait(false));
            var sender = await sessions[^1].AttachSenderAsync($"{Guid.NewGuid():n}", address, cancellationToken)
                .ConfigureAwait(false);
            return new Place(sender, guard, sessions);
        }
        catch
        {
            foreach (var session in sessions) await session.DisposeAsync().ConfigureAwait(false);
            throw;
        }

        async Task<ReceivingLink?> GuardAsync()
        {
            sessions.Add(await connection.BeginSessionAsync(cancellationToken).ConfigureAwait(false));
            try
            {
                return await sessions[^1].AttachReceiverAsync($"{Guid.NewGuid():n}", address, cancellationToken)
                    .ConfigureAwait(false);
            }
            catch (AmqpException e) when (e.Condition is Conditions.UnauthorizedAccess or Conditions.NotAllowed)
            {
                // Who may only send has to trust that the queue is there.
                return null;
            }
        }
    }

    /// <param name="Connection">By which they go.</param>
    /// <param name="Writer">Used under the connection's lock only.</param>
    /// <param name="Places">By their address.</param>
    private sealed record Links(Connection Connection, CloudEventWriter Writer, Dictionary<string, Place> Places);

    /// <param name="Sender">Sends to it.</param>
    /// <param name="Guard">Is gone once the queue is; null where there is none.</param>
    /// <param name="Sessions">Theirs.</param>
    private sealed record Place(SendingLink Sender, ReceivingLink? Guard, IReadOnlyList<Session> Sessions)
    {
        public async Task EndAsync()
        {
            foreach (var session in Sessions) await session.DisposeAsync().ConfigureAwait(false);
        }
    }
}
