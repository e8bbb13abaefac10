using System.Text.Json;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier;

/// <summary>What holds for the whole process. Settings: <c>Courier:…</c>.</summary>
public sealed class CourierOptions
{
    /// <summary>
    /// In whose name this service publishes: the CloudEvents <c>source</c>, a URI reference such as
    /// <c>/skerryline/harbour</c>. Needed by whoever publishes.
    /// </summary>
    public string? Source { get; set; }

    /// <summary>
    /// Address of the service's own database, such as <c>sqlite:/var/lib/ferry/harbour.db</c>; it holds outbox and
    /// inbox.
    /// </summary>
    public string? Store { get; set; }

    /// <summary>
    /// Address of the broker that the services share, such as <c>sqlite:/var/lib/ferry/broker.db</c>.
    /// </summary>
    public string? Broker { get; set; }

    /// <summary>
    /// Which types of events go to which queues, where the broker does not know it itself. Settings:
    /// <c>Courier:Routes:TYPE</c>.
    /// </summary>
    public RouteOptions Routes { get; } = new();

    /// <summary>
    /// Whether tables, queues and routes that are missing are made at start. Convenient in development; in production
    /// turn it off, make them with <c>courier schema apply</c>, and what is missing is a clear error at start.
    /// </summary>
    public bool CreateMissing { get; set; } = true;

    /// <summary>
    /// The largest event that may be published, in bytes of its JSON, 1,024 to 4,194,304. Default: 256 KiB.
    /// </summary>
    public int MaxEventBytes { get; set; } = 256 * 1024;

    /// <summary>
    /// How contracts become JSON. For a trimmed or AOT-compiled application, set its <c>TypeInfoResolver</c> to a
    /// source-generated context. It cannot be set from configuration.
    /// </summary>
    public JsonSerializerOptions Json { get; set; } = ContractCodec.DefaultJson();

    internal IEnumerable<string> Problems()
    {
        if (Source is not null && (
            Source.Length is 0 or > 255 || !Uri.IsWellFormedUriString(Source, UriKind.RelativeOrAbsolute)))
            yield return $"Source must be a URI reference of up to 255 characters, such as /skerryline/harbour, but is "
                + $"'{Source}'";
        if (MaxEventBytes is < 1024 or > Budget.LargestEvent)
            yield return $"MaxEventBytes must be 1,024 to {Budget.LargestEvent:N0}, but is {MaxEventBytes}";
    }
}
