namespace GentleCourier.Amqp.Framing;

/// <summary>What each peer says first, before AMQP and before SASL (sections 2.2 and 5.3.1).</summary>
internal static class ProtocolHeader
{
    public const int Size = 8;

    public static ReadOnlySpan<byte> Amqp => "AMQP\x00\x01\x00\x00"u8;

    public static ReadOnlySpan<byte> Sasl => "AMQP\x03\x01\x00\x00"u8;

    /// <summary>Sends ours, and reads the peer's, which must be the same.</summary>
    /// <exception cref="AmqpException">It is not.</exception>
    public static async Task ExchangeAsync(Stream stream, byte[] ours, CancellationToken cancellationToken)
    {
        await stream.WriteAsync(ours, cancellationToken).ConfigureAwait(false);
        await stream.FlushAsync(cancellationToken).ConfigureAwait(false);
        var theirs = new byte[Size];
        await stream.ReadExactlyAsync(theirs, cancellationToken).ConfigureAwait(false);
        if (theirs.AsSpan().SequenceEqual(ours)) return;
        throw new AmqpException(
            theirs.AsSpan(0, 4).SequenceEqual("AMQP"u8)
                ? $"it speaks {NameOf(theirs)}, not {NameOf(ours)}"
                : "it does not speak AMQP; check host and port, and whether it wants TLS");
    }

    private static string NameOf(byte[] header) =>
        $"AMQP {header[5]}.{header[6]}.{header[7]} with protocol id {header[4]}";
}
