using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Telemetry;

namespace GentleCourier;

/// <summary>
/// An event to be published: its data, with what the publisher wants to say about it. Not thread-safe.
/// </summary>
public sealed class EventDraft
{
    private readonly Func<string> type;
    private readonly Func<ContractCodec, EventOptions, EncodedEvent> encode;

    private EventDraft(
        Func<string> type, Func<ContractCodec, EventOptions, EncodedEvent> encode, EventOptions? options) =>
        (this.type, this.encode, Options) = (type, encode, options ?? EventOptions.None);

    /// <summary>What is said about it.</summary>
    public EventOptions Options { get; }

    /// <summary>
    /// A draft of an event whose data is <paramref name="contract"/>, read when the draft is added to an outbox.
    /// </summary>
    /// <param name="contract">A type with a <see cref="WireTypeAttribute"/>.</param>
    /// <param name="options">What is said about it.</param>
    public static EventDraft Of<TContract>(TContract contract, EventOptions? options = null) where TContract : notnull
    {
        ArgumentNullException.ThrowIfNull(contract);
        return new EventDraft(static () => ContractCodec.WireTypeOf(typeof(TContract)),
            (codec, said) => codec.Encode(contract, said), options);
    }

    /// <summary>
    /// A draft of an event of a type that has no class: its data is JSON already, and is published as it is.
    /// </summary>
    /// <param name="type">The wire type.</param>
    /// <param name="json">One JSON value, UTF-8; it is read when the draft is added to an outbox.</param>
    /// <param name="options">What is said about it.</param>
    public static EventDraft OfJson(string type, ReadOnlyMemory<byte> json, EventOptions? options = null)
    {
        ArgumentNullException.ThrowIfNull(type);
        return new EventDraft(() => type, (codec, said) => codec.Encode(type, json, said), options);
    }

    internal EventDraft With(string id, DateTimeOffset time) =>
        new(type, encode, Options with { Id = id, Time = time });

    /// <summary>What goes into an outbox, made within a span to which it goes back later.</summary>
    internal EncodedEvent Create(ContractCodec codec)
    {
        using var span = Spans.Create(type);
        try
        {
            var encoded = Encode(codec);
            span.Tag("messaging.message.id", encoded.Id);
            return encoded;
        }
        catch (Exception e)
        {
            span.Failed(e);
            throw;
        }
    }

    internal EncodedEvent Encode(ContractCodec codec) => encode(codec, Options);
}
