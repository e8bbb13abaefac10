using System.Collections.Frozen;
using GentleCourier.Watching;

namespace GentleCourier.Amqp.Performatives;

/// <summary>Numeric descriptors of what a frame may carry (sections 2.7 and 5.3.3).</summary>
internal static class Performative
{
    public const byte Open = 0x10, Begin = 0x11, Attach = 0x12, Flow = 0x13, Transfer = 0x14, Disposition = 0x15;
    public const byte Detach = 0x16, End = 0x17, Close = 0x18;
    public const byte SaslMechanisms = 0x40, SaslInit = 0x41, SaslChallenge = 0x42, SaslOutcome = 0x44;

    private static readonly FrozenDictionary<string, byte> ByName = new Dictionary<string, byte>
    {
        [Performatives.Open.Shape.Name] = Open,
        [Performatives.Begin.Shape.Name] = Begin,
        [Performatives.Attach.Shape.Name] = Attach,
        [FlowState.Shape.Name] = Flow,
        [Performatives.Transfer.Shape.Name] = Transfer,
        [Performatives.Disposition.Shape.Name] = Disposition,
        [Performatives.Detach.Shape.Name] = Detach,
        [Performatives.End.Shape.Name] = End,
        [Performatives.Close.Shape.Name] = Close,
        [Performatives.SaslMechanisms.Shape.Name] = SaslMechanisms,
        [Performatives.SaslInit.Shape.Name] = SaslInit,
        [Performatives.SaslChallenge.Shape.Name] = SaslChallenge,
        [Performatives.SaslOutcome.Shape.Name] = SaslOutcome,
    }.ToFrozenDictionary();

    /// <summary>The numeric descriptor for a symbolic one; null where none is known.</summary>
    public static ulong? CodeOf(string name) => ByName.TryGetValue(name, out var code) ? code : null;
}
