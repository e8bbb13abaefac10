using GentleCourier.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore;

namespace GentleCourier;

/// <summary>Publishes events with the changes of a context. As thread-safe as the context: not at all.</summary>
public static class EventsOfContext
{
    /// <summary>
    /// Adds an event to the context. It goes into the outbox with the next <c>SaveChanges</c>, in its transaction and
    /// in the same batch of statements, and leaves after the commit.
    /// </summary>
    /// <param name="context">A context that <see cref="CourierContexts.UseDbContext"/> has made known.</param>
    /// <param name="contract">
    /// The event's data: a type with a <see cref="WireTypeAttribute"/>. It is read at once.
    /// </param>
    /// <param name="options">What is said about it: id, subject, partition key, when it is due, and more.</param>
    /// <returns>The event's id.</returns>
    /// <exception cref="ContractException">The contract cannot be published; nothing was added.</exception>
    /// <exception cref="InvalidOperationException">
    /// The context is not known to Gentle Courier, or has no outbox in its model.
    /// </exception>
    public static string AddEvent<TContract>(
        this DbContext context, TContract contract, EventOptions? options = null) where TContract : notnull =>
        context.AddEvents([EventDraft.Of(contract, options)])[0];

    /// <summary>Adds many events, in their order: all, or none if one cannot be published.</summary>
    /// <param name="context">A context that <see cref="CourierContexts.UseDbContext"/> has made known.</param>
    /// <param name="drafts">The events. They are read at once.</param>
    /// <returns>The events' ids, in the order of the drafts.</returns>
    /// <exception cref="ContractException">A contract cannot be published; nothing was added.</exception>
    /// <exception cref="InvalidOperationException">
    /// The context is not known to Gentle Courier, or has no outbox in its model.
    /// </exception>
    public static IReadOnlyList<string> AddEvents(this DbContext context, IEnumerable<EventDraft> drafts)
    {
        ArgumentNullException.ThrowIfNull(context);
        ArgumentNullException.ThrowIfNull(drafts);
        return ContextHooks.Of(context).AddTo(context, drafts);
    }
}
