using System.Data.Common;
using System.Runtime.CompilerServices;
using System.Transactions;
using GentleCourier.Engines;
using GentleCourier.Events;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.ChangeTracking;
using Microsoft.EntityFrameworkCore.Diagnostics;
using Microsoft.EntityFrameworkCore.Infrastructure;

namespace GentleCourier.EntityFrameworkCore;

/// <summary>
/// What a context of the service's does for its outbox, as it is used. Shared by all contexts, and thread-safe.
/// </summary>
internal sealed class ContextHooks(
    IStorePort store, ContractCodec codec, TimeProvider clock, UnsavedEvents unsaved) : SaveChangesInterceptor,
    IDbConnectionInterceptor
{
    // Contexts that have saved while an event was handled.
    private readonly ConditionalWeakTable<DbContext, object> haveSaved = [];
    // Contexts with events for later: to look through all that others track would cost each save of theirs.
    private readonly ConditionalWeakTable<DbContext, object> withLater = [];

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
        var encoded = drafts.Select(draft => (Event: draft.Create(codec), draft.Options.Due)).ToList();
        foreach (var ((id, type, partitionKey, json), due) in encoded)
        {
            EntityEntry entry = due is null
                ? context.Add(
                    new OutboxEvent { EventId = id, Type = type, PartitionKey = partitionKey, Event = json.ToArray() })
                : context.Add(new LaterOutboxEvent
                {
                    EventId = id, Type = type, PartitionKey = partitionKey, Event = json.ToArray(), Due = due.Value,
                });
            var now = store.Later.Stamp;
            if (now is { } added) Set(entry, StoreModel.Added, added);
            unsaved.Add(context, type);
            if (due is not { } later) continue;
            Set(entry, StoreModel.DueAt, later.From(now ?? clock.GetUtcNow()));
            if (now is not null) entry.Property(StoreModel.ByClock).CurrentValue = later.Time is null ? 0L : 1L;
            withLater.AddOrUpdate(context, this);
        }
        return encoded.ConvertAll(e => e.Event.Id);
    }

    /// <summary>Whether a context has saved since this was last asked.</summary>
    public bool TakeSaved(DbContext context) => haveSaved.Remove(context);

    /// <summary>A time: in a file as Unix milliseconds.</summary>
    private static void Set(EntityEntry entry, string name, DateTimeOffset time)
    {
        var property = entry.Property(name);
        property.CurrentValue = property.Metadata.ClrType == typeof(long) ? time.ToUnixTimeMilliseconds()
            : time.UtcDateTime;
    }

    public override InterceptionResult<int> SavingChanges(DbContextEventData eventData, InterceptionResult<int> result)
    {
        SetDelaysAsync(eventData.Context!, CancellationToken.None).GetAwaiter().GetResult();
        return result;
    }

    public override async ValueTask<InterceptionResult<int>> SavingChangesAsync(
        DbContextEventData eventData, InterceptionResult<int> result, CancellationToken cancellationToken = default)
    {
        await SetDelaysAsync(eventData.Context!, cancellationToken).ConfigureAwait(false);
        return result;
    }

    public override int SavedChanges(SaveChangesCompletedEventData eventData, int result)
    {
        SavedAsync(eventData.Context!, CancellationToken.None).GetAwaiter().GetResult();
        return result;
    }

    public override async ValueTask<int> SavedChangesAsync(
        SaveChangesCompletedEventData eventData, int result, CancellationToken cancellationToken = default)
    {
        await SavedAsync(eventData.Context!, cancellationToken).ConfigureAwait(false);
        return result;
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

    /// <summary>A delay begins when it is saved, by the clock of the database.</summary>
    private async Task SetDelaysAsync(DbContext context, CancellationToken cancellationToken)
    {
        if (!withLater.TryGetValue(context, out _)) return;
        var delayed = Entries<LaterOutboxEvent>(context).FindAll(
            e => e.State == EntityState.Added && e.Entity.Due.Time is null);
        if (delayed.Count == 0) return;
        var now = store.Later.Stamp
            ?? await store.LaterEvents.ReadTimeAsync(cancellationToken).ConfigureAwait(false);
        foreach (var entry in delayed) Set(entry, StoreModel.DueAt, entry.Entity.Due.From(now));
    }

    /// <summary>
    /// The relay is told, be they committed yet or not: it then keeps looking for as long as a transaction that wrote
    /// before is under way. Its timekeeper is told with the commit; where that has been, the save has succeeded, and it
    /// finds by itself soon what it is not told. Saved events are let go: the context has no more use for them, and may
    /// live long.
    /// </summary>
    private async Task SavedAsync(DbContext context, CancellationToken cancellationToken)
    {
        if (WriteFlow.Current is not null) haveSaved.AddOrUpdate(context, this);
        if (context.Model.FindEntityType(typeof(OutboxEvent)) is null) return;
        unsaved.Saved(context);
        if (LetGo(Entries<OutboxEvent>(context))) store.WakeRelay();
        if (!withLater.TryGetValue(context, out _) || !LetGo(Entries<LaterOutboxEvent>(context))) return;
        var isCommitted = context.Database.CurrentTransaction is null && Transaction.Current is null
            && context.Database.GetEnlistedTransaction() is null;
        try
        {
            await store.Later.TellAsync(
                context.Database.GetDbConnection(), isCommitted ? CancellationToken.None : cancellationToken)
                .ConfigureAwait(false);
        }
        catch (CourierException) when (isCommitted)
        {
        }
    }

    /// <summary>Those that the caller wants to accept by himself are still to be added, should he have to save again.
    /// </summary>
    private static bool LetGo<T>(List<EntityEntry<T>> entries) where T : class
    {
        foreach (var entry in entries)
            if (entry.State == EntityState.Unchanged) entry.State = EntityState.Detached;
        return entries.Count > 0;
    }

    /// <summary>Saving looks for changes everywhere, and listing entries would do it once more.</summary>
    public static List<EntityEntry<T>> Entries<T>(DbContext context) where T : class
    {
        var tracker = context.ChangeTracker;
        var detects = tracker.AutoDetectChangesEnabled;
        tracker.AutoDetectChangesEnabled = false;
        var entries = tracker.Entries<T>().ToList();
        tracker.AutoDetectChangesEnabled = detects;
        return entries;
    }
}
