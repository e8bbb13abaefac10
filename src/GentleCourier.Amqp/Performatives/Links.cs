using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Performatives;

/// <summary>Attaches a link to a session (section 2.7.3).</summary>
internal sealed class Attach
{
    public string Name = "";
    public uint Handle;
    public bool IsReceiver;
    public byte SenderSettles = SettleMode.Mixed, ReceiverSettles;
    public Source? Source;
    public Target? Target;
    public WireMap? Unsettled;
    public bool IncompleteUnsettled;
    public uint? InitialDeliveryCount;
    public ulong? MaxMessageSize;
    public Symbol[] OfferedCapabilities = [], DesiredCapabilities = [];
    public WireMap? Properties;

    public static readonly Composite<Attach> Shape = new(
        "amqp:attach:list", Performative.Attach,
        Field.Mandatory("name", WireTypes.String, static (Attach a) => ref a.Name),
        Field.Mandatory("handle", WireTypes.UInt, static (Attach a) => ref a.Handle),
        Field.Mandatory("role", WireTypes.Boolean, static (Attach a) => ref a.IsReceiver),
        Field.Default("snd-settle-mode", WireTypes.UByte, static (Attach a) => ref a.SenderSettles, SettleMode.Mixed),
        Field.Default("rcv-settle-mode", WireTypes.UByte, static (Attach a) => ref a.ReceiverSettles, (byte)0),
        Field.Reference("source", Source.Shape, static (Attach a) => ref a.Source),
        Field.Reference("target", Target.Shape, static (Attach a) => ref a.Target),
        Field.Reference("unsettled", WireValue.Map, static (Attach a) => ref a.Unsettled),
        Field.Default("incomplete-unsettled", WireTypes.Boolean, static (Attach a) => ref a.IncompleteUnsettled, false),
        Field.Optional("initial-delivery-count", WireTypes.UInt, static (Attach a) => ref a.InitialDeliveryCount),
        Field.Optional("max-message-size", WireTypes.ULong, static (Attach a) => ref a.MaxMessageSize),
        Field.Multiple("offered-capabilities", static (Attach a) => ref a.OfferedCapabilities),
        Field.Multiple("desired-capabilities", static (Attach a) => ref a.DesiredCapabilities),
        Field.Reference("properties", WireValue.Map, static (Attach a) => ref a.Properties));
}

/// <summary>When a sender settles (section 2.8.2).</summary>
internal static class SettleMode
{
    public const byte Unsettled = 0, Settled = 1, Mixed = 2;
}

/// <summary>Updates the state of a session's flow, and of a link's (section 2.7.4).</summary>
internal sealed class FlowState
{
    public uint? NextIncomingId;
    public uint IncomingWindow, NextOutgoingId, OutgoingWindow;
    public uint? Handle, DeliveryCount, LinkCredit, Available;
    public bool Drain, Echo;
    public WireMap? Properties;

    public static readonly Composite<FlowState> Shape = new(
        "amqp:flow:list", Performative.Flow,
        Field.Optional("next-incoming-id", WireTypes.UInt, static (FlowState f) => ref f.NextIncomingId),
        Field.Mandatory("incoming-window", WireTypes.UInt, static (FlowState f) => ref f.IncomingWindow),
        Field.Mandatory("next-outgoing-id", WireTypes.UInt, static (FlowState f) => ref f.NextOutgoingId),
        Field.Mandatory("outgoing-window", WireTypes.UInt, static (FlowState f) => ref f.OutgoingWindow),
        Field.Optional("handle", WireTypes.UInt, static (FlowState f) => ref f.Handle),
        Field.Optional("delivery-count", WireTypes.UInt, static (FlowState f) => ref f.DeliveryCount),
        Field.Optional("link-credit", WireTypes.UInt, static (FlowState f) => ref f.LinkCredit),
        Field.Optional("available", WireTypes.UInt, static (FlowState f) => ref f.Available),
        Field.Default("drain", WireTypes.Boolean, static (FlowState f) => ref f.Drain, false),
        Field.Default("echo", WireTypes.Boolean, static (FlowState f) => ref f.Echo, false),
        Field.Reference("properties", WireValue.Map, static (FlowState f) => ref f.Properties));
}

/// <summary>Transfers a message, or a part of one (section 2.7.5).</summary>
internal sealed class Transfer
{
    public uint Handle;
    public uint? DeliveryId;
    public DeliveryTag? Tag;
    public uint? MessageFormat;
    public bool? Settled;
    public bool More;
    public byte? ReceiverSettles;
    public DeliveryState? State;
    public bool Resume, Aborted, Batchable;

    public static readonly Composite<Transfer> Shape = new(
        "amqp:transfer:list", Performative.Transfer,
        Field.Mandatory("handle", WireTypes.UInt, static (Transfer t) => ref t.Handle),
        Field.Optional("delivery-id", WireTypes.UInt, static (Transfer t) => ref t.DeliveryId),
        Field.Optional("delivery-tag", DeliveryTag.Wire, static (Transfer t) => ref t.Tag),
        Field.Optional("message-format", WireTypes.UInt, static (Transfer t) => ref t.MessageFormat),
        Field.Optional("settled", WireTypes.Boolean, static (Transfer t) => ref t.Settled),
        Field.Default("more", WireTypes.Boolean, static (Transfer t) => ref t.More, false),
        Field.Optional("rcv-settle-mode", WireTypes.UByte, static (Transfer t) => ref t.ReceiverSettles),
        Field.Reference("state", DeliveryState.Wire, static (Transfer t) => ref t.State),
        Field.Default("resume", WireTypes.Boolean, static (Transfer t) => ref t.Resume, false),
        Field.Default("aborted", WireTypes.Boolean, static (Transfer t) => ref t.Aborted, false),
        Field.Default("batchable", WireTypes.Boolean, static (Transfer t) => ref t.Batchable, false));
}

/// <summary>Tells what became of deliveries, a whole range of them (section 2.7.6).</summary>
internal sealed class Disposition
{
    public bool IsReceiver;
    public uint First;
    public uint? Last;
    public bool Settled;
    public DeliveryState? State;
    public bool Batchable;

    public static readonly Composite<Disposition> Shape = new(
        "amqp:disposition:list", Performative.Disposition,
        Field.Mandatory("role", WireTypes.Boolean, static (Disposition d) => ref d.IsReceiver),
        Field.Mandatory("first", WireTypes.UInt, static (Disposition d) => ref d.First),
        Field.Optional("last", WireTypes.UInt, static (Disposition d) => ref d.Last),
        Field.Default("settled", WireTypes.Boolean, static (Disposition d) => ref d.Settled, false),
        Field.Reference("state", DeliveryState.Wire, static (Disposition d) => ref d.State),
        Field.Default("batchable", WireTypes.Boolean, static (Disposition d) => ref d.Batchable, false));
}

/// <summary>Detaches a link, and closes it (section 2.7.7).</summary>
internal sealed class Detach
{
    public uint Handle;
    public bool Closed;
    public AmqpError? Error;

    public static readonly Composite<Detach> Shape = new(
        "amqp:detach:list", Performative.Detach,
        Field.Mandatory("handle", WireTypes.UInt, static (Detach d) => ref d.Handle),
        Field.Default("closed", WireTypes.Boolean, static (Detach d) => ref d.Closed, false),
        Field.Reference("error", AmqpError.Shape, static (Detach d) => ref d.Error));
}
