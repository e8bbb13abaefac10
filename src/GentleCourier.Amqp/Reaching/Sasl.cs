using System.Buffers.Binary;
using System.Text;
using GentleCourier.Amqp.Framing;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Reaching;

/// <summary>
/// Who one is, shown before a connection is opened (part 5, section 5.3): with a user by PLAIN (RFC 4616), with a
/// certificate alone by EXTERNAL, otherwise as ANONYMOUS (RFC 4505).
/// </summary>
internal sealed record Sasl(string Mechanism, ReadOnlyMemory<byte> Response)
{
    public static Sasl Anonymous { get; } = new("ANONYMOUS", "anonymous"u8.ToArray());

    /// <summary>As TLS has shown already.</summary>
    public static Sasl External { get; } = new("EXTERNAL", ReadOnlyMemory<byte>.Empty);

    public static Sasl Plain(string user, string password) =>
        new("PLAIN", Encoding.UTF8.GetBytes($"\0{user}\0{password}"));

    /// <exception cref="AmqpException">The peer does not take it.</exception>
    public async Task ShowAsync(Stream stream, string? hostName, string whom, CancellationToken cancellationToken)
    {
        await ProtocolHeader.ExchangeAsync(stream, ProtocolHeader.Sasl.ToArray(), cancellationToken)
            .ConfigureAwait(false);
        var offered = Read(
            await ReadFrameAsync(stream, cancellationToken).ConfigureAwait(false), SaslMechanisms.Shape).Offered;
        if (!offered.Contains(Mechanism))
            throw new AmqpException(
                $"it lets nobody in by {Mechanism}, only by {string.Join(", ", offered)}", Conditions.NotAllowed);
        await SendAsync(stream, hostName, cancellationToken).ConfigureAwait(false);
        var outcome = Read(await ReadFrameAsync(stream, cancellationToken).ConfigureAwait(false), SaslOutcome.Shape);
        if (outcome.Code == SaslOutcome.Ok) return;
        var permanent = outcome.Code is SaslOutcome.Refused or SaslOutcome.PermanentSystemError;
        throw new AmqpException(
            outcome.Code == SaslOutcome.Refused
                ? $"it refuses {whom}; check user and password (in the address, its password-file, or "
                    + $"{AmqpAddress.PasswordVariable})"
                : $"it cannot find out who {whom} is (SASL code {outcome.Code})",
            permanent ? Conditions.UnauthorizedAccess : null);
    }

    private async Task SendAsync(Stream stream, string? hostName, CancellationToken cancellationToken)
    {
        using var buffer = new WireBuffer(512);
        var start = Frame.Begin(buffer, Frame.Sasl, 0);
        SaslInit.Shape.Write(
            buffer, new SaslInit { Mechanism = Mechanism, InitialResponse = new(Response), Hostname = hostName });
        Frame.End(buffer, start);
        await stream.WriteAsync(buffer.Memory, cancellationToken).ConfigureAwait(false);
        await stream.FlushAsync(cancellationToken).ConfigureAwait(false);
    }

    /// <summary>What one frame carries; no more is read, since what follows is not SASL.</summary>
    private static async Task<byte[]> ReadFrameAsync(Stream stream, CancellationToken cancellationToken)
    {
        var head = new byte[Frame.HeadSize];
        await stream.ReadExactlyAsync(head, cancellationToken).ConfigureAwait(false);
        var frame = Frame.ReadHead(head, Frame.SmallestMaximum);
        if (frame.Type != Frame.Sasl) throw new DecodeException("another frame came in the middle of authentication");
        var rest = new byte[frame.Size - Frame.HeadSize];
        await stream.ReadExactlyAsync(rest, cancellationToken).ConfigureAwait(false);
        return rest[(frame.Offset - Frame.HeadSize)..];
    }

    private static T Read<T>(byte[] body, Composite<T> shape) where T : class, new()
    {
        var reader = new WireReader(body);
        return shape.Read(ref reader) ?? throw new DecodeException($"{shape.Name} is missing");
    }
}
