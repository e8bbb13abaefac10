using System.Diagnostics;
using System.Runtime.CompilerServices;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Diagnostics;
using Microsoft.Extensions.Logging;

namespace GentleCourier.EntityFrameworkCore;

/// <summary>
/// Tells of contexts that are let go with events that were added and never saved: nobody else would. Thread-safe.
/// </summary>
internal sealed partial class UnsavedEvents : IObserver<DiagnosticListener>, IObserver<KeyValuePair<string, object?>>,
    IDisposable
{
    private readonly ConditionalWeakTable<DbContext, Added> added = [];
    private readonly List<IDisposable> subscriptions = [];
    private readonly Repeats repeats = new();
    private readonly ILogger logger;

    public UnsavedEvents(ILogger logger)
    {
        this.logger = logger;
        Keep(DiagnosticListener.AllListeners.Subscribe(this));
    }

    /// <summary>An event has been added to a context.</summary>
    public void Add(DbContext context, string type)
    {
        var lease = context.ContextId.Lease;
        if (added.TryGetValue(context, out var before))
        {
            if (before.Lease == lease) return;
            // What a pool gives out again does not say that it was let go.
            Tell(context, before);
        }
        added.AddOrUpdate(context, new Added(type, lease));
    }

    /// <summary>A context has saved.</summary>
    public void Saved(DbContext context) => added.Remove(context);

    void IObserver<DiagnosticListener>.OnNext(DiagnosticListener value)
    {
        if (value.Name == DbLoggerCategory.Name)
            Keep(value.Subscribe(this, static name => name == CoreEventId.ContextDisposed.Name));
    }

    void IObserver<KeyValuePair<string, object?>>.OnNext(KeyValuePair<string, object?> value)
    {
        if (value.Value is not DbContextEventData { Context: { } context }
            || !added.TryGetValue(context, out var first)) return;
        // It may have dropped them on purpose.
        if (ContextHooks.Entries<OutboxEvent>(context).Exists(e => e.State == EntityState.Added)
            || (context.Model.FindEntityType(typeof(LaterOutboxEvent)) is not null
                && ContextHooks.Entries<LaterOutboxEvent>(context).Exists(e => e.State == EntityState.Added)))
            Tell(context, first);
    }

    public void OnCompleted()
    {
    }

    public void OnError(Exception error)
    {
    }

    public void Dispose()
    {
        lock (subscriptions) subscriptions.ForEach(s => s.Dispose());
    }

    private void Tell(DbContext context, Added first)
    {
        added.Remove(context);
        if (repeats.IsTimeToSay(first.Type, out var times))
            LogUnsaved(logger, context.GetType().Name, first.Type, times);
    }

    private void Keep(IDisposable subscription)
    {
        lock (subscriptions) subscriptions.Add(subscription);
    }

    private sealed record Added(string Type, int Lease);

    [LoggerMessage(405, LogLevel.Warning,
        "{Context} was let go with an event {Type} that had been added to it and was never saved: it is gone; call "
        + "SaveChanges ({Times} like it)")]
    private static partial void LogUnsaved(ILogger logger, string context, string type, int times);
}
