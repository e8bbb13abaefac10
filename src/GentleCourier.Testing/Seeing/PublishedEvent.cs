using GentleCourier.Events;

namespace GentleCourier.Testing;

/// <summary>An event that was published. Immutable.</summary>
public sealed class PublishedEvent
{
    private readonly ContractCodec codec;

    internal PublishedEvent(string service, CourierEvent @event, ContractCodec codec, DateTimeOffset at)
    {
        this.codec = codec;
        (Service, Event, At) = (service, @event, at);
    }

    /// <summary>Who has published it, by the name that the test has given.</summary>
    public string Service { get; }

    /// <summary>The event: id, source, time, subject, partition key, headers and so on.</summary>
    public CourierEvent Event { get; }

    /// <summary>
    /// When the broker took it; of one that has not been relayed, when it was looked at. By the test's clock.
    /// </summary>
    public DateTimeOffset At { get; }

    /// <summary>When it is due, where it was published for later and has not left yet; null: at once.</summary>
    public DateTimeOffset? Due { get; internal init; }

    /// <summary>Its data.</summary>
    /// <exception cref="ContractException">It is no <typeparamref name="TContract"/>.</exception>
    public TContract Data<TContract>() where TContract : notnull => SeenData.Of<TContract>(Event, codec, "published");

    /// <summary>Whether its type is that of the contract, or a former one.</summary>
    public bool Is<TContract>() => SeenData.Is<TContract>(Event);

    /// <summary>In one line, for people.</summary>
    public override string ToString() => Due is { } due
        ? $"{Service} has {Event.Type} {Event.Id} for {TrialText.Of(due)}"
        : $"{Service} published {Event.Type} {Event.Id}";
}
