namespace GentleCourier;

/// <summary>
/// Handles events of one contract. Built by dependency injection, in a scope of its own for each delivery; a receiver
/// serves one delivery at a time, several instances run side by side.
/// </summary>
/// <typeparam name="TContract">The contract: a type with a <see cref="WireTypeAttribute"/>.</typeparam>
public interface IReceiver<TContract>
{
    /// <summary>
    /// Handles one delivery. Returning accepts it; throwing counts as a failed attempt, after which the event comes
    /// again by the queue's policy or, after the last attempt, is set aside. <see cref="RetryException"/> names the
    /// delay; <see cref="RejectException"/> sets it aside at once. Any event may come more than once: work in the
    /// transaction of <see cref="Delivery{TContract}.BeginAsync"/> has its effect once, anything else must bear being
    /// repeated.
    /// </summary>
    /// <param name="delivery">The event and what belongs to it.</param>
    /// <param name="cancellationToken">
    /// Cancelled when the time limit is over or the lease is lost, after which nothing that the receiver does in the
    /// transaction has an effect; and when the host stops and the limit for finishing is over.
    /// </param>
    Task HandleAsync(Delivery<TContract> delivery, CancellationToken cancellationToken);
}
