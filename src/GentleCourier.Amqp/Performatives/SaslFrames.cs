using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Performatives;

/// <summary>Says how a peer lets itself be shown who one is (part 5, section 5.3.3.1).</summary>
internal sealed class SaslMechanisms
{
    public Symbol[] Offered = [];

    public static readonly Composite<SaslMechanisms> Shape = new(
        "amqp:sasl-mechanisms:list", Performative.SaslMechanisms,
        Field.Multiple("sasl-server-mechanisms", static (SaslMechanisms m) => ref m.Offered, isMandatory: true));
}

/// <summary>Chooses one (section 5.3.3.2).</summary>
internal sealed class SaslInit
{
    public Symbol Mechanism;
    public Binary? InitialResponse;
    public string? Hostname;

    public static readonly Composite<SaslInit> Shape = new(
        "amqp:sasl-init:list", Performative.SaslInit,
        Field.Mandatory("mechanism", WireTypes.Symbol, static (SaslInit i) => ref i.Mechanism),
        Field.Optional("initial-response", WireTypes.Binary, static (SaslInit i) => ref i.InitialResponse),
        Field.Reference("hostname", WireTypes.String, static (SaslInit i) => ref i.Hostname));
}

/// <summary>Asks for more (section 5.3.3.3); none of the mechanisms here has more to say.</summary>
internal sealed class SaslChallenge
{
    public Binary Challenge;

    public static readonly Composite<SaslChallenge> Shape = new(
        "amqp:sasl-challenge:list", Performative.SaslChallenge,
        Field.Mandatory("challenge", WireTypes.Binary, static (SaslChallenge c) => ref c.Challenge));
}

/// <summary>Says what came of it (sections 5.3.3.5 and 5.3.3.6).</summary>
internal sealed class SaslOutcome
{
    public const byte Ok = 0, Refused = 1, SystemError = 2, PermanentSystemError = 3, TransientSystemError = 4;

    public byte Code;
    public Binary? AdditionalData;

    public static readonly Composite<SaslOutcome> Shape = new(
        "amqp:sasl-outcome:list", Performative.SaslOutcome,
        Field.Mandatory("code", WireTypes.UByte, static (SaslOutcome o) => ref o.Code),
        Field.Optional("additional-data", WireTypes.Binary, static (SaslOutcome o) => ref o.AdditionalData));
}
