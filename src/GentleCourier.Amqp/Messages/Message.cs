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
internal readonly record struct Message(
    ReadOnlyMemory<byte> Header, ReadOnlyMemory<byte> Annotations, ReadOnlyMemory<byte> Properties,
    ReadOnlyMemory<byte> ApplicationProperties, ReadOnlyMemory<byte> Body, byte? BodySection)
{
    /// <exception cref="DecodeException">These are not the sections of a message.</exception>
    public static Message Of(ReadOnlyMemory<byte> bytes)
    {
        var message = default(Message);
        var reader = new WireReader(bytes.Span);
        while (reader.Remaining > 0)
        {
            var code = Descriptor.Read(ref reader, Section.CodeOf);
            var start = reader.Position;
            var data = code == Section.Data ? ReadData(bytes, ref reader) : default;
            if (code != Section.Data) WireValue.Skip(ref reader);
            var value = bytes[start..reader.Position];
            message = code switch
            {
                Section.Header => message with { Header = value },
                Section.MessageAnnotations => message with { Annotations = value },
                Section.Properties => message with { Properties = value },
                Section.ApplicationProperties => message with { ApplicationProperties = value },
                Section.Data => message.WithData(data),
                Section.Sequence or Section.Value => message with { Body = value, BodySection = (byte)code },
                Section.DeliveryAnnotations or Section.Footer => message,
                _ => throw new DecodeException("a message has a section that is none"),
            };
        }
        return message;
    }

    /// <summary>Begins a section; its value follows.</summary>
    public static void Begin(WireBuffer to, byte section) => Descriptor.Write(to, section);

    /// <summary>A body of data may be in pieces.</summary>
    private Message WithData(ReadOnlyMemory<byte> data) => BodySection is null
        ? this with { Body = data, BodySection = Section.Data }
        : this with { Body = (byte[])[.. Body.Span, .. data.Span] };

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
