namespace GentleCourier.Receiving.Handling;

/// <summary>Where a delivery is. What may follow what is in <see cref="DeliveryStates"/>.</summary>
internal enum DeliveryState
{
    /// <summary>It is being taken in.</summary>
    Coming,

    /// <summary>It lies ready for a handler.</summary>
    Ready,

    /// <summary>A handler has it.</summary>
    Running,

    /// <summary>Its attempt has failed, and what comes of it depends on whether others fail alike.</summary>
    InDoubt,

    /// <summary>Its next attempt is due at a time, and the broker cannot keep it until then.</summary>
    Waiting,

    /// <summary>A handler has the same event by a link that is gone: what comes of that comes of it.</summary>
    Following,

    /// <summary>What comes of it is decided, and the broker is yet to be told.</summary>
    Decided,

    /// <summary>The broker is being told.</summary>
    Sent,

    /// <summary>It is not this worker's any more.</summary>
    Gone,
}

/// <summary>The table of what may follow what.</summary>
internal static class DeliveryStates
{
    public const int Count = (int)DeliveryState.Gone + 1;

    // From each state, in their order, to which others: a bit for each.
    private static readonly int[] Followers =
    [
        Bits(DeliveryState.Ready, DeliveryState.Waiting, DeliveryState.Following, DeliveryState.Decided),
        Bits(DeliveryState.Running, DeliveryState.Decided, DeliveryState.Gone),
        Bits(DeliveryState.Ready, DeliveryState.InDoubt, DeliveryState.Decided, DeliveryState.Gone),
        Bits(DeliveryState.Decided, DeliveryState.Gone),
        Bits(DeliveryState.Ready, DeliveryState.Decided, DeliveryState.Gone),
        Bits(DeliveryState.Ready, DeliveryState.Decided, DeliveryState.Gone),
        Bits(DeliveryState.Sent, DeliveryState.Gone),
        Bits(DeliveryState.Gone),
        0,
    ];

    public static bool MayFollow(DeliveryState from, DeliveryState to) => (Followers[(int)from] >> (int)to & 1) == 1;

    private static int Bits(params ReadOnlySpan<DeliveryState> states)
    {
        var bits = 0;
        foreach (var state in states) bits |= 1 << (int)state;
        return bits;
    }
}
