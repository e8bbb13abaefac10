using GentleCourier.ByHand;

namespace GentleCourier.Cli;

/// <summary>An event that was looked at where it is.</summary>
/// <param name="State">In what state it is there, in a word for people, which is also what it is chosen by.</param>
/// <param name="Since">Since when it is there.</param>
/// <param name="Json">The event, as it was published.</param>
internal sealed record Seen(string State, DateTimeOffset Since, ReadOnlyMemory<byte> Json)
{
    public const string Ready = "ready", InHand = "in-hand", Later = "later", Waiting = "waiting", Held = "held",
        Refused = "refused";

    public static readonly string[] OfQueues = [Ready, InHand, Later], OfOutboxes = [Waiting, Held, Refused, Later];

    /// <summary>How often it was tried there.</summary>
    public int Attempts { get; init; }

    /// <summary>Until when it is in this state.</summary>
    public DateTimeOffset? Until { get; init; }

    /// <summary>Who has it in hand.</summary>
    public string? Worker { get; init; }

    public string? LastError { get; init; }

    /// <summary>The times that it was set aside and sent back before.</summary>
    public IReadOnlyList<SentBack> History { get; init; } = [];

    /// <summary>The event; null where it cannot be read.</summary>
    public CourierEvent? Event { get; } = EventLines.TryRead(Json);
}
