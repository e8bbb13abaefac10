using GentleCourier.Amqp.Events;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Amqp.Transport;

namespace GentleCourier.Amqp.Broker;

/// <summary>
/// An address that is published to: the link that sends, and the one that watches whether a queue is there. They are
/// opened when they are first needed, and again once they are gone. Thread-safe.
/// </summary>
internal sealed class PublishingPlace(Connections connections, string address, bool isQueue) : IAsyncDisposable
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

    /// <summary>Writes events as messages; under the lock of the link's connection alone.</summary>
    public CloudEventWriter Writer { get; } = new();

    /// <summary>The link that sends, to a queue that is there.</summary>
    /// <exception cref="AmqpException">The peer does not want it, or the queue is not there.</exception>
    public Task<Opened> OpenedAsync()
    {
        lock (gate)
        {
            if (opening is { IsCompleted: true } && opening is not { IsCompletedSuccessfully: true, Result.IsUp: true })
                opening = OpenAgainAsync(opening);
            return opening ??= OpenAsync();
        }
    }

    public async ValueTask DisposeAsync()
    {
        Task<Opened>? last;
        lock (gate) last = opening;
        // Its connection is closed already, and nothing is waited for.
        if (last is not null) await ((Task)last).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        if (last is { IsCompletedSuccessfully: true }) await last.Result.EndAsync().ConfigureAwait(false);
        Writer.Dispose();
    }

    private async Task<Opened> OpenAgainAsync(Task<Opened> before)
    {
        if (before.IsCompletedSuccessfully)
            await (await before.ConfigureAwait(false)).EndAsync().ConfigureAwait(false);
        return await OpenAsync().ConfigureAwait(false);
    }

    private async Task<Opened> OpenAsync()
    {
        var guard = isQueue ? new QueueGuard(connections, address) : null;
        Session? session = null;
        try
        {
            if (guard is not null) await guard.WatchAsync().ConfigureAwait(false);
            session = await connections.BeginSessionAsync(default).ConfigureAwait(false);
            var sender = await session.AttachSenderAsync($"{Guid.NewGuid():n}", address, default).ConfigureAwait(false);
            return new Opened(sender, guard, session);
        }
        catch
        {
            if (guard is not null) await guard.DisposeAsync().ConfigureAwait(false);
            if (session is not null) await session.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }

    /// <param name="Sender">Sends to it.</param>
    /// <param name="Guard">Sees that the queue is there; null where it is none.</param>
    /// <param name="Session">The sender's.</param>
    internal sealed record Opened(SendingLink Sender, QueueGuard? Guard, Session Session)
    {
        public bool IsUp => Sender.WhyGone is null && Guard?.WhyGone is null;

        public async Task EndAsync()
        {
            if (Guard is not null) await Guard.DisposeAsync().ConfigureAwait(false);
            await Session.DisposeAsync().ConfigureAwait(false);
        }
    }
}
