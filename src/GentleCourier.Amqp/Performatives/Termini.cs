using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Performatives;

/// <summary>From where messages come (part 3, section 3.5.3).</summary>
internal sealed class Source
{
    public object? Address;
    public uint Durable;
    public Symbol ExpiryPolicy = SessionEnd;
    public uint Timeout;
    public bool Dynamic;
    public WireMap? DynamicNodeProperties;
    public Symbol? DistributionMode;
    public WireMap? Filter;
    public DeliveryState? DefaultOutcome;
    public Symbol[] Outcomes = [], Capabilities = [];

    private static readonly Symbol SessionEnd = "session-end";

    public static readonly Composite<Source> Shape = new(
        "amqp:source:list", 0x28,
        Field.Reference("address", WireValue.Any, static (Source s) => ref s.Address),
        Field.Default("durable", WireTypes.UInt, static (Source s) => ref s.Durable, 0u),
        Field.Default("expiry-policy", WireTypes.Symbol, static (Source s) => ref s.ExpiryPolicy, SessionEnd),
        Field.Default("timeout", WireTypes.UInt, static (Source s) => ref s.Timeout, 0u),
        Field.Default("dynamic", WireTypes.Boolean, static (Source s) => ref s.Dynamic, false),
        Field.Reference(
            "dynamic-node-properties", WireValue.Map, static (Source s) => ref s.DynamicNodeProperties),
        Field.Optional("distribution-mode", WireTypes.Symbol, static (Source s) => ref s.DistributionMode),
        Field.Reference("filter", WireValue.Map, static (Source s) => ref s.Filter),
        Field.Reference("default-outcome", DeliveryState.Wire, static (Source s) => ref s.DefaultOutcome),
        Field.Multiple("outcomes", static (Source s) => ref s.Outcomes),
        Field.Multiple("capabilities", static (Source s) => ref s.Capabilities));
}

/// <summary>To where messages go (section 3.5.4).</summary>
internal sealed class Target
{
    public object? Address;
    public uint Durable;
    public Symbol ExpiryPolicy = SessionEnd;
    public uint Timeout;
    public bool Dynamic;
    public WireMap? DynamicNodeProperties;
    public Symbol[] Capabilities = [];

    private static readonly Symbol SessionEnd = "session-end";

    public static readonly Composite<Target> Shape = new(
        "amqp:target:list", 0x29,
        Field.Reference("address", WireValue.Any, static (Target t) => ref t.Address),
        Field.Default("durable", WireTypes.UInt, static (Target t) => ref t.Durable, 0u),
        Field.Default("expiry-policy", WireTypes.Symbol, static (Target t) => ref t.ExpiryPolicy, SessionEnd),
        Field.Default("timeout", WireTypes.UInt, static (Target t) => ref t.Timeout, 0u),
        Field.Default("dynamic", WireTypes.Boolean, static (Target t) => ref t.Dynamic, false),
        Field.Reference(
            "dynamic-node-properties", WireValue.Map, static (Target t) => ref t.DynamicNodeProperties),
        Field.Multiple("capabilities", static (Target t) => ref t.Capabilities));
}
