namespace GentleCourier.Events;

/// <summary>
/// The event that is being handled, for whoever publishes meanwhile: it is the cause of what is published. It is
/// ambient, and flows into whatever a receiver calls.
/// </summary>
internal static class Handled
{
    private static readonly AsyncLocal<Event?> Ambient = new();

    /// <summary>The event; null outside of handlers, and in a batch, whose events are not told apart.</summary>
    public static Event? Event
    {
        get => Ambient.Value;
        set => Ambient.Value = value;
    }
}
