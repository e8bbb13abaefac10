using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Transport;

namespace GentleCourier.Amqp.Broker;

/// <summary>
/// An address that is published to by one connection: the link that sends, and the one that watches whether a queue is
/// there. They are opened when they are first needed, and again once they are gone. Thread-safe.
/// </summary>
internal sealed class PublishingPlace(Connection connection, string address, bool isQueue)
{
    private static readonly TimeSpan Longest = TimeSpan.FromSeconds(10), Shortest = TimeSpan.FromSeconds(1);

    private readonly Lock gate = new();
    private Task<Opened>? opening;
    private TimeSpan? late;

    /// <summary>
    /// How long it may take to publish a batch. Others wait for it: so after it was too long there is less, and then
    /// more each time, until it is enough.
    /// </summary>
    public TimeSpan Patience
    {
        get
        {
            lock (gate) return late ?? Longest;
        }
    }

    /// <summary>Messages were known in time to be taken, or not; or they were not.</summary>
    public void Answered(bool inTime)
    {
        lock (gate)
            late = inTime ? null : late is not { } before ? Shortest : 2 * before < Longest ? 2 * before : Longest;
    }

    /// <summary>The link that sends.</summary>
    /// <exception cref="AmqpException">The peer does not want it.</exception>
    public async Task<SendingLink> LinkAsync()
    {
        Task<Opened> opened;
        lock (gate)
        {
            if (opening is { IsCompleted: true } && opening is not { IsCompletedSuccessfully: true, Result.IsUp: true })
                opening = OpenAgainAsync(opening);
            opened = opening ??= OpenAsync();
        }
        return (await opened.ConfigureAwait(false)).Sender;
    }

    private async Task<Opened> OpenAgainAsync(Task<Opened> before)
    {
        if (before.IsCompletedSuccessfully)
            await (await before.ConfigureAwait(false)).EndAsync().ConfigureAwait(false);
        return await OpenAsync().ConfigureAwait(false);
    }

    private async Task<Opened> OpenAsync()
    {
        List<Session> sessions = [];
        try
        {
            var guard = isQueue ? await WatchAsync(sessions).ConfigureAwait(false) : null;
            sessions.Add(await connection.BeginSessionAsync(default).ConfigureAwait(false));
            var sender = await sessions[^1].AttachSenderAsync($"{Guid.NewGuid():n}", address, default)
                .ConfigureAwait(false);
            return new Opened(sender, guard, sessions);
        }
        catch
        {
            foreach (var session in sessions) await session.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }

    private async Task<ReceivingLink?> WatchAsync(List<Session> sessions)
    {
        sessions.Add(await connection.BeginSessionAsync(default).ConfigureAwait(false));
        try
        {
            return await sessions[^1].AttachReceiverAsync($"{Guid.NewGuid():n}", address, default)
                .ConfigureAwait(false);
        }
        catch (AmqpException e) when (e.Condition is Conditions.UnauthorizedAccess or Conditions.NotAllowed)
        {
            // Who may only send has to trust that the queue is there.
            return null;
        }
    }

    /// <param name="Sender">Sends to it.</param>
    /// <param name="Guard">Is gone once the queue is; null where there is none.</param>
    /// <param name="Sessions">Theirs.</param>
    private sealed record Opened(SendingLink Sender, ReceivingLink? Guard, IReadOnlyList<Session> Sessions)
    {
        public bool IsUp => Sender.WhyGone is null && Guard?.WhyGone is null;

        public async Task EndAsync()
        {
            foreach (var session in Sessions) await session.DisposeAsync().ConfigureAwait(false);
        }
    }
}
