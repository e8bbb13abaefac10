using GentleCourier.Watching;

namespace GentleCourier;

/// <summary>
/// Tells how the broker and the store of this process do: for health checks, telemetry and pages of one's own, the same
/// figures and findings that <c>courier status</c> shows. Registered by <c>AddGentleCourier</c>. Thread-safe.
/// </summary>
public interface ICourierStatus
{
    /// <summary>
    /// Asks the broker and the store, by a statement or three each, whose cost does not depend on how many events wait.
    /// What cannot be reached is a finding, not an error.
    /// </summary>
    Task<CourierStatus> ReadAsync(CancellationToken cancellationToken = default);
}
