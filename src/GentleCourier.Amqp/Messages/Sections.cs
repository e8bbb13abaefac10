using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Messages;

/// <summary>How a message is to be delivered (part 3, section 3.2.1).</summary>
internal sealed class Header
{
    public bool Durable;
    public byte Priority = 4;
    public uint? Ttl;
    public bool FirstAcquirer;
    public uint DeliveryCount;

    public static readonly Composite<Header> Shape = new(
        "amqp:header:list", Section.Header,
        Field.Default("durable", WireTypes.Boolean, static (Header h) => ref h.Durable, false),
        Field.Default("priority", WireTypes.UByte, static (Header h) => ref h.Priority, (byte)4),
        Field.Optional("ttl", WireTypes.UInt, static (Header h) => ref h.Ttl),
        Field.Default("first-acquirer", WireTypes.Boolean, static (Header h) => ref h.FirstAcquirer, false),
        Field.Default("delivery-count", WireTypes.UInt, static (Header h) => ref h.DeliveryCount, 0u));
}

/// <summary>What a message is (section 3.2.4).</summary>
internal sealed class Properties
{
    public object? MessageId, To, ReplyTo, CorrelationId;
    public Binary? UserId;
    public string? Subject, GroupId, ReplyToGroupId;
    public Symbol? ContentType, ContentEncoding;
    public Timestamp? AbsoluteExpiryTime, CreationTime;
    public uint? GroupSequence;

    public static readonly Composite<Properties> Shape = new(
        "amqp:properties:list", Section.Properties,
        Field.Reference("message-id", WireValue.Plain, static (Properties p) => ref p.MessageId),
        Field.Optional("user-id", WireTypes.Binary, static (Properties p) => ref p.UserId),
        Field.Reference("to", WireValue.Plain, static (Properties p) => ref p.To),
        Field.Reference("subject", WireTypes.String, static (Properties p) => ref p.Subject),
        Field.Reference("reply-to", WireValue.Plain, static (Properties p) => ref p.ReplyTo),
        Field.Reference("correlation-id", WireValue.Plain, static (Properties p) => ref p.CorrelationId),
        Field.Optional("content-type", WireTypes.Symbol, static (Properties p) => ref p.ContentType),
        Field.Optional("content-encoding", WireTypes.Symbol, static (Properties p) => ref p.ContentEncoding),
        Field.Optional("absolute-expiry-time", WireTypes.Timestamp, static (Properties p) => ref p.AbsoluteExpiryTime),
        Field.Optional("creation-time", WireTypes.Timestamp, static (Properties p) => ref p.CreationTime),
        Field.Reference("group-id", WireTypes.String, static (Properties p) => ref p.GroupId),
        Field.Optional("group-sequence", WireTypes.UInt, static (Properties p) => ref p.GroupSequence),
        Field.Reference("reply-to-group-id", WireTypes.String, static (Properties p) => ref p.ReplyToGroupId));
}

/// <summary>Numeric descriptors of a message's sections (section 3.2).</summary>
internal static class Section
{
    public const byte Header = 0x70, DeliveryAnnotations = 0x71, MessageAnnotations = 0x72, Properties = 0x73;
    public const byte ApplicationProperties = 0x74, Data = 0x75, Sequence = 0x76, Value = 0x77, Footer = 0x78;

    /// <summary>The numeric descriptor for a symbolic one; null where none is known.</summary>
    public static ulong? CodeOf(string name) => name switch
    {
        "amqp:header:list" => Header,
        "amqp:delivery-annotations:map" => DeliveryAnnotations,
        "amqp:message-annotations:map" => MessageAnnotations,
        "amqp:properties:list" => Properties,
        "amqp:application-properties:map" => ApplicationProperties,
        "amqp:data:binary" => Data,
        "amqp:amqp-sequence:list" => Sequence,
        "amqp:amqp-value:*" => Value,
        "amqp:footer:map" => Footer,
        _ => null,
    };
}
