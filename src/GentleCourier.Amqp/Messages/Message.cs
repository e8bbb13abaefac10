using System.Buffers;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Messages;

/// <summary>
/// Where the sections of a message lie in its bytes (part 3, section 3.2): it is looked through once, and what nobody
/// asks for is not read.
/// </summary>
/// <param name="Header">The fields of the header; empty where there is none, as below.</param>
/// <param name="Annotations">The map of message annotations.</param>
/// <param name="Properties">The fields of the properties.</param>
/// <param name="ApplicationProperties">The map of application properties.</param>
/// <param name="Body">What the body carries: bytes of data, or the value after its descriptor.</param>
/// <param name="BodySection">Of which section the body is; null where there is none.</param>
/// <param name="Problem">Why it was not looked through to its end; null where it was.</param>
internal readonly record struct Message(
    ReadOnlyMemory<byte> Header, ReadOnlyMemory<byte> Annotations, ReadOnlyMemory<byte> Properties,
    ReadOnlyMemory<byte> ApplicationProperties, ReadOnlyMemory<byte> Body, byte? BodySection, string? Problem)
{
    /// <exception cref="DecodeException">These are not the sections of a message.</exception>
    public static Message Of(ReadOnlyMemory<byte> bytes) => AsFarAsSound(bytes) is var message
        && message.Problem is { } problem ? throw new DecodeException(problem) : message;

    /// <summary>The sections up to where they are not sound any more.</summary>
    public static Message AsFarAsSound(ReadOnlyMemory<byte> bytes)
    {
        var message = default(Message);
        var reader = new WireReader(bytes.Span);
        ArrayBufferWriter<byte>? pieces = null;
        try
        {
            while (reader.Remaining > 0) message = message.WithNext(bytes, ref reader, ref pieces);
        }
        catch (DecodeException e)
        {
            message = message with { Problem = e.Message };
        }
        return pieces is null ? message : message with { Body = pieces.WrittenMemory };
    }

    /// <summary>Begins a section; its value follows.</summary>
    public static void Begin(WireBuffer to, byte section) => Descriptor.Write(to, section);

    private Message WithNext(ReadOnlyMemory<byte> bytes, ref WireReader reader, ref ArrayBufferWriter<byte>? pieces)
    {
        var code = Descriptor.Read(ref reader, Section.CodeOf);
        if (code == Section.Data) return WithData(ReadData(bytes, ref reader), ref pieces);
        var start = reader.Position;
        WireValue.Skip(ref reader);
        var value = bytes[start..reader.Position];
        return code switch
        {
            Section.Header => this with { Header = value },
            Section.MessageAnnotations => this with { Annotations = value },
            Section.Properties => this with { Properties = value },
            Section.ApplicationProperties => this with { ApplicationProperties = value },
            Section.Sequence or Section.Value => this with { Body = value, BodySection = (byte)code },
            Section.DeliveryAnnotations or Section.Footer => this,
            _ => throw new DecodeException("a message has a section that is none"),
        };
    }

    /// <summary>A body of data may be in pieces, and in very many.</summary>
    private Message WithData(ReadOnlyMemory<byte> data, ref ArrayBufferWriter<byte>? pieces)
    {
        if (BodySection is null) return this with { Body = data, BodySection = Section.Data };
        if (pieces is null)
        {
            pieces = new ArrayBufferWriter<byte>(Body.Length + data.Length + 1);
            pieces.Write(Body.Span);
        }
        pieces.Write(data.Span);
        return this;
    }

    private static ReadOnlyMemory<byte> ReadData(ReadOnlyMemory<byte> bytes, ref WireReader reader)
    {
        var length = reader.Byte() switch
        {
            FormatCode.Binary8 => reader.Byte(),
            FormatCode.Binary32 => reader.UInt32(),
            var other => throw new DecodeException($"data is binary, not of constructor 0x{other:x2}"),
        };
        reader.Bytes(length);
        return bytes.Slice(reader.Position - (int)length, (int)length);
    }
}
