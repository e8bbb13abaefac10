namespace GentleCourier.Amqp.Performatives;

/// <summary>What a peer may say of something: whatever lies between these is legal, and has to be borne.</summary>
/// <param name="Name">As the specification calls it.</param>
/// <param name="Section">Where in part 2 it stands.</param>
/// <param name="Least">The least.</param>
/// <param name="Most">The most.</param>
internal readonly record struct WireLimit(string Name, string Section, ulong Least, ulong Most)
{
    /// <exception cref="Types.DecodeException">It lies outside.</exception>
    public void Check(ulong value)
    {
        if (value < Least) throw new Types.DecodeException($"{Name} is {value}, less than {Least} (section {Section})");
    }
}

/// <summary>The limits of the wire that a peer chooses.</summary>
internal static class WireLimits
{
    public static readonly WireLimit MaxFrameSize = new(
        "max-frame-size", "2.7.1", Framing.Frame.SmallestMaximum, uint.MaxValue);

    /// <summary>Any number, not only of a power of two; a peer has one session more than that.</summary>
    public static readonly WireLimit ChannelMax = new("channel-max", "2.7.1", 0, ushort.MaxValue);

    /// <summary>A session has one link more than that.</summary>
    public static readonly WireLimit HandleMax = new("handle-max", "2.7.2", 0, uint.MaxValue);

    /// <summary>How many frames of transfers; 0 until a flow says more.</summary>
    public static readonly WireLimit Window = new("incoming-window", "2.7.2", 0, uint.MaxValue);

    /// <summary>Numbers of transfers and deliveries, which go round (RFC 1982).</summary>
    public static readonly WireLimit Sequence = new("sequence-no", "2.8.10", 0, uint.MaxValue);

    public static readonly WireLimit LinkCredit = new("link-credit", "2.7.4", 0, uint.MaxValue);
}
