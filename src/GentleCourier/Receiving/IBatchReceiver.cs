namespace GentleCourier;

/// <summary>
/// Handles many events of one contract at once: as many as came, up to <see cref="ReceiverOptions.BatchSize"/>. Built
/// by dependency injection, in a scope of its own for each batch; an instance serves one batch at a time.
/// </summary>
/// <typeparam name="TContract">The contract: a type with a <see cref="WireTypeAttribute"/>.</typeparam>
public interface IBatchReceiver<TContract>
{
    /// <summary>
    /// Handles a batch. Returning accepts each event that was not given another outcome by
    /// <see cref="BatchedDelivery{TContract}.Fail"/>; what was done in the transaction of
    /// <see cref="DeliveryBatch{TContract}.BeginAsync"/> commits together. Throwing rolls everything back, and the
    /// events of the batch are then handled one at a time, in batches of one: only those that fail by themselves count
    /// as failed.
    /// </summary>
    /// <param name="batch">1 to <see cref="ReceiverOptions.BatchSize"/> events, in the order of the queue.</param>
    /// <param name="cancellationToken">
    /// Cancelled when the time limit is over, the lease of an event is lost, or the host stops and the limit for
    /// finishing is over.
    /// </param>
    Task HandleAsync(DeliveryBatch<TContract> batch, CancellationToken cancellationToken);
}
