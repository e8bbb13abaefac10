namespace GentleCourier.Engines;

/// <summary>
/// What a flow of execution has with it while it goes on: the only writer's turn of some file, so that to ask for the
/// same once more, further inside, is refused at once instead of being waited for in vain; and the event that is
/// handled in it, which is the cause of what is published there.
/// </summary>
/// <remarks>
/// It is ambient, and flows into whatever is called or started while it is there, not back to callers. So each holder
/// has one of its own, which it opens and closes.
/// </remarks>
internal sealed class WriteFlow
{
    private static readonly AsyncLocal<WriteFlow?> Ambient = new();

    private readonly WriteFlow? outer;
    private volatile object? held;

    private WriteFlow(WriteFlow? outer, CourierEvent? handled) => (this.outer, Handled) = (outer, handled);

    /// <summary>The event; null outside of handlers, and in a batch, whose events are not told apart.</summary>
    public CourierEvent? Handled { get; }

    /// <summary>That of the caller; null where there is none.</summary>
    public static WriteFlow? Current => Ambient.Value;

    /// <summary>
    /// Begins one for the caller and all that it calls from now on. Call it where nothing is awaited before the caller
    /// goes on, or it does not see it.
    /// </summary>
    /// <param name="handled">The event that is handled in it; where it is left out, that of the one around.</param>
    public static WriteFlow Begin(CourierEvent? handled = null)
    {
        handled ??= Ambient.Value?.Handled;
        // Those that hold nothing any more are passed over: a loop must not make a chain of them.
        var around = Ambient.Value;
        while (around is { held: null }) around = around.outer;
        return Ambient.Value = new WriteFlow(around, handled);
    }

    /// <summary>Whether this one, or one around it, holds it.</summary>
    public bool Holds(object what)
    {
        for (var flow = this; flow is not null; flow = flow.outer)
            if (ReferenceEquals(flow.held, what)) return true;
        return false;
    }

    public void Open(object what) => held = what;

    public void Close() => held = null;
}
