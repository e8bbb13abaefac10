using System.Collections.ObjectModel;
using GentleCourier.Events;

namespace GentleCourier;

/// <summary>
/// A CloudEvents 1.0 event, read from the wire. Immutable, safe to share between threads.
/// Source of the attributes' rules: CloudEvents 1.0.2, "Context Attributes", with the extensions <c>partitionkey</c>
/// (partitioning) and <c>traceparent</c>, <c>tracestate</c> (distributed tracing, W3C trace context).
/// </summary>
public sealed class CourierEvent
{
    /// <summary>With <see cref="Source"/> the identity of the event from end to end; never empty.</summary>
    public required string Id { get; init; }

    /// <summary>The service in whose name the event was published, a URI reference; never empty.</summary>
    public required string Source { get; init; }

    /// <summary>The wire type, by which events are routed to queues and a contract is found; never empty.</summary>
    public required string Type { get; init; }

    /// <summary>When the thing happened, where the publisher said so.</summary>
    public DateTimeOffset? Time { get; init; }

    /// <summary>What the event is about within its source, where the publisher said so.</summary>
    public string? Subject { get; init; }

    /// <summary>Events with the same key leave an outbox in the order in which they were added.</summary>
    public string? PartitionKey { get; init; }

    /// <summary>W3C <c>traceparent</c> of the operation that published the event.</summary>
    public string? TraceParent { get; init; }

    /// <summary>W3C <c>tracestate</c> of the operation that published the event.</summary>
    public string? TraceState { get; init; }

    /// <summary>
    /// To what larger matter it belongs, such as an order or a request (CloudEvents extension <c>correlationid</c>).
    /// </summary>
    public string? CorrelationId { get; init; }

    /// <summary>
    /// The id of the event whose handling published this one (CloudEvents extension <c>causationid</c>).
    /// </summary>
    public string? CausationId { get; init; }

    /// <summary>
    /// Headers of the publisher's own: extension attributes that have no property here, as texts; up to 50.
    /// </summary>
    public IReadOnlyDictionary<string, string> Extensions { get; init; } = NoExtensions;

    internal static IReadOnlyDictionary<string, string> NoExtensions { get; } =
        ReadOnlyDictionary<string, string>.Empty;

    /// <summary>Media type of <see cref="Data"/>; where it is not said, it is JSON.</summary>
    public string DataContentType { get; init; } = "application/json";

    /// <summary>
    /// The body: the UTF-8 JSON value of <c>data</c>, or the decoded bytes of <c>data_base64</c>; empty where the
    /// event has none.
    /// </summary>
    public ReadOnlyMemory<byte> Data { get; init; }

    /// <summary>
    /// Whether <see cref="Data"/> is said to be JSON: <c>application/json</c> or a type that ends in <c>+json</c>.
    /// </summary>
    public bool HasJsonData => IsJson(DataContentType);

    /// <summary>Reads an event in CloudEvents' JSON format (UTF-8). The memory is referenced, not copied.</summary>
    /// <exception cref="UnreadableEventException">
    /// It is not JSON, or not a CloudEvents 1.0 event; the message says why.
    /// </exception>
    public static CourierEvent Read(ReadOnlyMemory<byte> json) => EventJson.Read(json);

    internal static bool IsJson(string contentType)
    {
        var parameters = contentType.IndexOf(';', StringComparison.Ordinal);
        var mediaType = (parameters < 0 ? contentType : contentType[..parameters]).Trim();
        return mediaType.Equals("application/json", StringComparison.OrdinalIgnoreCase)
            || mediaType.EndsWith("+json", StringComparison.OrdinalIgnoreCase);
    }
}
