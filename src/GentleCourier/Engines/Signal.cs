namespace GentleCourier.Engines;

/// <summary>
/// Wakes everybody who waits. Take <see cref="Next"/> before looking for work and await it when there is none: what
/// happens in between is not missed. Thread-safe.
/// </summary>
internal sealed class Signal
{
    private TaskCompletionSource next = new(TaskCreationOptions.RunContinuationsAsynchronously);

    /// <summary>Ends at the next <see cref="Raise"/> after this call.</summary>
    public Task Next => Volatile.Read(ref next).Task;

    public void Raise() =>
        Interlocked.Exchange(ref next, new(TaskCreationOptions.RunContinuationsAsynchronously)).TrySetResult();
}
