using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Performatives;

/// <summary>Opens a connection (section 2.7.1).</summary>
internal sealed class Open
{
    public string ContainerId = "";
    public string? Hostname;
    public uint MaxFrameSize = uint.MaxValue;
    public ushort ChannelMax = ushort.MaxValue;
    public uint? IdleTimeOut;
    public Symbol[] OutgoingLocales = [], IncomingLocales = [], OfferedCapabilities = [], DesiredCapabilities = [];
    public WireMap? Properties;

    public static readonly Composite<Open> Shape = new(
        "amqp:open:list", Performative.Open,
        Field.Mandatory("container-id", WireTypes.String, static (Open o) => ref o.ContainerId),
        Field.Reference("hostname", WireTypes.String, static (Open o) => ref o.Hostname),
        Field.Default("max-frame-size", WireTypes.UInt, static (Open o) => ref o.MaxFrameSize, uint.MaxValue),
        Field.Default("channel-max", WireTypes.UShort, static (Open o) => ref o.ChannelMax, ushort.MaxValue),
        Field.Optional("idle-time-out", WireTypes.UInt, static (Open o) => ref o.IdleTimeOut),
        Field.Multiple("outgoing-locales", static (Open o) => ref o.OutgoingLocales),
        Field.Multiple("incoming-locales", static (Open o) => ref o.IncomingLocales),
        Field.Multiple("offered-capabilities", static (Open o) => ref o.OfferedCapabilities),
        Field.Multiple("desired-capabilities", static (Open o) => ref o.DesiredCapabilities),
        Field.Reference("properties", WireValue.Map, static (Open o) => ref o.Properties));
}

/// <summary>Begins a session on a channel (section 2.7.2).</summary>
internal sealed class Begin
{
    public ushort? RemoteChannel;
    public uint NextOutgoingId, IncomingWindow, OutgoingWindow;
    public uint HandleMax = uint.MaxValue;
    public Symbol[] OfferedCapabilities = [], DesiredCapabilities = [];
    public WireMap? Properties;

    public static readonly Composite<Begin> Shape = new(
        "amqp:begin:list", Performative.Begin,
        Field.Optional("remote-channel", WireTypes.UShort, static (Begin b) => ref b.RemoteChannel),
        Field.Mandatory("next-outgoing-id", WireTypes.UInt, static (Begin b) => ref b.NextOutgoingId),
        Field.Mandatory("incoming-window", WireTypes.UInt, static (Begin b) => ref b.IncomingWindow),
        Field.Mandatory("outgoing-window", WireTypes.UInt, static (Begin b) => ref b.OutgoingWindow),
        Field.Default("handle-max", WireTypes.UInt, static (Begin b) => ref b.HandleMax, uint.MaxValue),
        Field.Multiple("offered-capabilities", static (Begin b) => ref b.OfferedCapabilities),
        Field.Multiple("desired-capabilities", static (Begin b) => ref b.DesiredCapabilities),
        Field.Reference("properties", WireValue.Map, static (Begin b) => ref b.Properties));
}

/// <summary>Ends a session (section 2.7.8).</summary>
internal sealed class End
{
    public AmqpError? Error;

    public static readonly Composite<End> Shape = new(
        "amqp:end:list", Performative.End, Field.Reference("error", AmqpError.Shape, static (End e) => ref e.Error));
}

/// <summary>Closes a connection (section 2.7.9).</summary>
internal sealed class Close
{
    public AmqpError? Error;

    public static readonly Composite<Close> Shape = new(
        "amqp:close:list", Performative.Close,
            Field.Reference("error", AmqpError.Shape, static (Close c) => ref c.Error));
}

/// <summary>Why something ended (section 2.8.14).</summary>
internal sealed class AmqpError
{
    private const int LongestSaid = 300;

    public Symbol Condition;
    public string? Description;
    public WireMap? Info;

    public static readonly Composite<AmqpError> Shape = new(
        "amqp:error:list", 0x1d,
        Field.Mandatory("condition", WireTypes.Symbol, static (AmqpError e) => ref e.Condition),
        Field.Reference("description", WireTypes.String, static (AmqpError e) => ref e.Description),
        Field.Reference("info", WireValue.Map, static (AmqpError e) => ref e.Info));

    public static AmqpError Of(string condition, string description) =>
        new() { Condition = condition, Description = description };

    /// <summary>For people; where it redirects, to where (section 2.8.16, 2.8.18).</summary>
    public override string ToString()
    {
        var where = Info?[new Symbol("network-host")] is { } host ? $" (to {host}:{Info[new Symbol("port")]})" : "";
        return Words.Line(
            string.IsNullOrEmpty(Description) ? $"{Condition}{where}" : $"{Condition}: {InLine(Description)}{where}");
    }

    /// <summary>What a peer says may be a page of its own innards.</summary>
    private static string InLine(string text)
    {
        var line = string.Join(' ', text.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries));
        return line.Length <= LongestSaid ? line : $"{line.AsSpan(0, LongestSaid)}…";
    }
}

/// <summary>
/// Conditions of the specification (sections 2.8.15 to 2.8.18) that are told to peers here, or looked for.
/// </summary>
internal static class Conditions
{
    public const string InternalError = "amqp:internal-error", NotFound = "amqp:not-found";
    public const string UnauthorizedAccess = "amqp:unauthorized-access", NotAllowed = "amqp:not-allowed";
    public const string DecodeError = "amqp:decode-error", IllegalState = "amqp:illegal-state";
    public const string InvalidField = "amqp:invalid-field", NotImplemented = "amqp:not-implemented";
    public const string ResourceLimitExceeded = "amqp:resource-limit-exceeded";
    public const string FramingError = "amqp:connection:framing-error";
    public const string ConnectionRedirect = "amqp:connection:redirect", LinkRedirect = "amqp:link:redirect";
    public const string UnattachedHandle = "amqp:session:unattached-handle";
    public const string HandleInUse = "amqp:session:handle-in-use";
    public const string TransferLimitExceeded = "amqp:link:transfer-limit-exceeded";
    public const string MessageSizeExceeded = "amqp:link:message-size-exceeded";
}
