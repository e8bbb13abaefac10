using System.Data.Common;
using GentleCourier.Engines;
using GentleCourier.Events;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Diagnostics;
using Microsoft.EntityFrameworkCore.Infrastructure;

namespace GentleCourier.EntityFrameworkCore;

/// <summary>
/// What a context of the service's does for its outbox, as it is used. Shared by all contexts, and thread-safe.
/// </summary>
internal sealed class ContextHooks(IStorePort store, ContractCodec codec, TimeProvider clock) : SaveChangesInterceptor,
    IDbConnectionInterceptor
{
    /// <exception cref="InvalidOperationException">
    /// The context is not known to Gentle Courier, or has no outbox in its model.
    /// </exception>
    public static ContextHooks Of(DbContext context)
    {
        var name = context.GetType().Name;
        var hooks = context.GetService<IDbContextOptions>()
            .FindExtension<CoreOptionsExtension>()?.Interceptors?.OfType<ContextHooks>().FirstOrDefault()
            ?? throw new InvalidOperationException(
                $"{name} has no outbox to add events to: say courier.UseDbContext<{name}>() in AddGentleCourier, and "
                + "let the container make the context");
        return context.Model.FindEntityType(typeof(OutboxEvent)) is not null ? hooks
            : throw new InvalidOperationException(
                $"{name} has no outbox in its model: say model.AddGentleCourier(Database) in its OnModelCreating");
    }

    public IReadOnlyList<string> AddTo(DbContext context, IEnumerable<EventDraft> drafts)
    {
        // All are encoded before the first is added: one that cannot be published leaves nothing behind.
        var encoded = drafts.Select(draft => draft.Encode(codec)).ToList();
        foreach (var (id, type, partitionKey, json) in encoded)
        {
            var entry = context.Add(
                new OutboxEvent { EventId = id, Type = type, PartitionKey = partitionKey, Event = json.ToArray() });
            var added = entry.Property(Tables.Added);
            if (added.Metadata.ClrType == typeof(long)) added.CurrentValue = clock.GetUtcNow().ToUnixTimeMilliseconds();
        }
        return encoded.ConvertAll(e => e.Id);
    }

    public override int SavedChanges(SaveChangesCompletedEventData eventData, int result)
    {
        Saved(eventData.Context!);
        return result;
    }

    public override ValueTask<int> SavedChangesAsync(
        SaveChangesCompletedEventData eventData, int result, CancellationToken cancellationToken = default)
    {
        Saved(eventData.Context!);
        return new(result);
    }

    public void ConnectionOpened(DbConnection connection, ConnectionEndEventData eventData)
    {
        if (IsItsOwn(connection, eventData)) store.AdoptAsync(connection).GetAwaiter().GetResult();
    }

    public Task ConnectionOpenedAsync(
        DbConnection connection, ConnectionEndEventData eventData, CancellationToken cancellationToken = default) =>
        IsItsOwn(connection, eventData) ? store.AdoptAsync(connection, cancellationToken) : Task.CompletedTask;

    /// <summary>Not one to another database, by which it looks whether its own exists, or makes it.</summary>
    private static bool IsItsOwn(DbConnection connection, ConnectionEndEventData eventData) =>
        ReferenceEquals(connection, eventData.Context?.Database.GetDbConnection());

    /// <summary>
    /// The relay is told, be they committed yet or not: it then keeps looking for as long as a transaction that wrote
    /// before is under way. Saved events are let go: the context has no more use for them, and may live long.
    /// </summary>
    private void Saved(DbContext context)
    {
        if (context.Model.FindEntityType(typeof(OutboxEvent)) is null) return;
        // Saving has just looked for changes everywhere, and listing entries would do it once more.
        var tracker = context.ChangeTracker;
        var detects = tracker.AutoDetectChangesEnabled;
        tracker.AutoDetectChangesEnabled = false;
        var entries = tracker.Entries<OutboxEvent>().ToList();
        tracker.AutoDetectChangesEnabled = detects;
        if (entries.Count == 0) return;
        // Those that the caller wants to accept by himself are still to be added, should he have to save again.
        foreach (var entry in entries)
            if (entry.State == EntityState.Unchanged) entry.State = EntityState.Detached;
        store.WakeRelay();
    }
}
