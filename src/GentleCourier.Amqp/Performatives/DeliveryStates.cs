using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Performatives;

/// <summary>What has become of a delivery so far (part 3, section 3.4). Immutable once read.</summary>
internal abstract class DeliveryState
{
    public static readonly Accepted Accepted = new();

    public static readonly Released Released = new();

    public static readonly IWire<DeliveryState?> Wire = new StateWire();

    /// <summary>Whether it is an outcome: nothing more becomes of the delivery.</summary>
    public virtual bool IsOutcome => true;

    protected abstract void WriteTo(WireBuffer to);

    private sealed class StateWire : IWire<DeliveryState?>
    {
        public void Write(WireBuffer to, DeliveryState? value)
        {
            if (value is null) to.Byte(FormatCode.Null);
            else value.WriteTo(to);
        }

        public DeliveryState? Read(ref WireReader from)
        {
            if (from.Peek() == FormatCode.Null)
            {
                from.Byte();
                return null;
            }
            switch (Descriptor.Read(ref from, CodeOf))
            {
                case 0x24:
                    WireValue.Skip(ref from);
                    return Accepted;
                case 0x26:
                    WireValue.Skip(ref from);
                    return Released;
                case 0x23:
                    return Fields(Received.Shape, ref from);
                case 0x25:
                    return Fields(Rejected.Shape, ref from);
                case 0x27:
                    return Fields(Modified.Shape, ref from);
                default:
                    WireValue.Skip(ref from);
                    return new UnknownState();
            }
        }

        private static T Fields<T>(Composite<T> shape, ref WireReader from) where T : class, new()
        {
            var state = new T();
            shape.ReadFields(ref from, state);
            return state;
        }

        private static ulong? CodeOf(string name) => name switch
        {
            "amqp:received:list" => 0x23,
            "amqp:accepted:list" => 0x24,
            "amqp:rejected:list" => 0x25,
            "amqp:released:list" => 0x26,
            "amqp:modified:list" => 0x27,
            _ => null,
        };
    }
}

/// <summary>So much of it has come (section 3.4.1): no outcome.</summary>
internal sealed class Received : DeliveryState
{
    public uint SectionNumber;
    public ulong SectionOffset;

    public static readonly Composite<Received> Shape = new(
        "amqp:received:list", 0x23,
        Field.Mandatory("section-number", WireTypes.UInt, static (Received r) => ref r.SectionNumber),
        Field.Mandatory("section-offset", WireTypes.ULong, static (Received r) => ref r.SectionOffset));

    public override bool IsOutcome => false;

    protected override void WriteTo(WireBuffer to) => Shape.Write(to, this);
}

/// <summary>Handled (section 3.4.2).</summary>
internal sealed class Accepted : DeliveryState
{
    public static readonly Composite<Accepted> Shape = new("amqp:accepted:list", 0x24);

    public override string ToString() => "accepted";

    protected override void WriteTo(WireBuffer to) => Shape.Write(to, this);
}

/// <summary>Invalid, and not to be handed over again (section 3.4.3).</summary>
internal sealed class Rejected : DeliveryState
{
    public AmqpError? Error;

    public static readonly Composite<Rejected> Shape = new(
        "amqp:rejected:list", 0x25, Field.Reference("error", AmqpError.Shape, static (Rejected r) => ref r.Error));

    public override string ToString() => Error is null ? "rejected" : $"rejected: {Error}";

    protected override void WriteTo(WireBuffer to) => Shape.Write(to, this);
}

/// <summary>Given back untouched (section 3.4.4).</summary>
internal sealed class Released : DeliveryState
{
    public static readonly Composite<Released> Shape = new("amqp:released:list", 0x26);

    public override string ToString() => "released";

    protected override void WriteTo(WireBuffer to) => Shape.Write(to, this);
}

/// <summary>Given back, and changed (section 3.4.5).</summary>
internal sealed class Modified : DeliveryState
{
    public bool? DeliveryFailed, UndeliverableHere;
    public WireMap? MessageAnnotations;

    public static readonly Composite<Modified> Shape = new(
        "amqp:modified:list", 0x27,
        Field.Optional("delivery-failed", WireTypes.Boolean, static (Modified m) => ref m.DeliveryFailed),
        Field.Optional("undeliverable-here", WireTypes.Boolean, static (Modified m) => ref m.UndeliverableHere),
        Field.Reference("message-annotations", WireValue.Map, static (Modified m) => ref m.MessageAnnotations));

    public override string ToString() => "modified";

    protected override void WriteTo(WireBuffer to) => Shape.Write(to, this);
}

/// <summary>A state that this specification does not know; it cannot be sent.</summary>
internal sealed class UnknownState : DeliveryState
{
    public override bool IsOutcome => false;

    public override string ToString() => "in a state that is not known here";

    protected override void WriteTo(WireBuffer to) =>
        throw new NotSupportedException("a delivery's state that is not known cannot be sent");
}
