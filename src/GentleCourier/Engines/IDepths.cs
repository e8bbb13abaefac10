namespace GentleCourier.Engines;

/// <summary>
/// How many events wait in queues, of a broker that tells no more than that. Thread-safe; throws
/// <see cref="CourierException"/> where the broker cannot be reached.
/// </summary>
internal interface IDepths
{
    /// <summary>For each queue how many events wait to be handed over; null where the broker does not say.</summary>
    Task<IReadOnlyList<long?>> ReadDepthsAsync(
        IReadOnlyList<string> queues, CancellationToken cancellationToken = default);
}
