namespace GentleCourier.Amqp.Transport;

/// <summary>How one is towards a peer.</summary>
internal sealed record ConnectionSettings
{
    /// <summary>What the peer is called in messages to people.</summary>
    public required string Peer { get; init; }

    /// <summary>Who one is, for the peer's own lists.</summary>
    public required string ContainerId { get; init; }

    /// <summary>The host that is meant, where a peer stands for several.</summary>
    public string? HostName { get; init; }

    /// <summary>The largest frame that is taken, and that is sent where the peer takes larger ones; bytes.</summary>
    public int MaxFrameSize { get; init; } = 128 * 1024;

    /// <summary>The largest message that is taken whole, in bytes: 16 MiB.</summary>
    public const int LargestMessage = 16 * 1024 * 1024;

    /// <summary>The largest message that is taken whole, in bytes; of others there is a head.</summary>
    public int MaxMessageSize { get; init; } = LargestMessage;

    /// <summary>
    /// A connection is lost when nothing has come for this long; the peer sends something more often.
    /// </summary>
    public TimeSpan IdleTimeOut { get; init; } = TimeSpan.FromSeconds(30);

    /// <summary>How long a peer may take to answer.</summary>
    public TimeSpan AnswerWithin { get; init; } = TimeSpan.FromSeconds(10);

    public TimeProvider Clock { get; init; } = TimeProvider.System;

    /// <summary>Waits for an answer of the peer.</summary>
    /// <exception cref="AmqpException">It has not come within the limit.</exception>
    public async Task AnsweredAsync(Task answer, string what, CancellationToken cancellationToken)
    {
        try
        {
            await answer.WaitAsync(AnswerWithin, Clock, cancellationToken).ConfigureAwait(false);
        }
        catch (TimeoutException e)
        {
            throw new AmqpException($"{Peer} has not answered {what} within {AnswerWithin.TotalSeconds:0.#} s", null,
                e);
        }
    }
}
