using GentleCourier.Receiving.Handling;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.EntityFrameworkCore;

/// <summary>Which contexts have been made in a scope.</summary>
internal sealed class ContextsOfScope
{
    public HashSet<Type> Made { get; } = [];
}

/// <summary>
/// Sees to it that no receiver returns with changes of its scope's context that nobody saves: its event would be
/// accepted, and what it did, gone.
/// </summary>
/// <param name="services">The application's services.</param>
internal sealed class UnsavedChanges<TContext>(IServiceCollection services) where TContext : DbContext
{
    // Options that are made once for all, as those of a pool are, do not tell of each context.
    private readonly Lazy<bool> areOptionsShared = new(() => services.Any(
        d => d.ServiceType == typeof(DbContextOptions<TContext>) && d.Lifetime == ServiceLifetime.Singleton));

    /// <summary>A context is made in a scope.</summary>
    public void Made(IServiceProvider scope)
    {
        if (!areOptionsShared.Value) scope.GetRequiredService<ContextsOfScope>().Made.Add(typeof(TContext));
    }

    /// <summary>Around every receiver, and everything else that is around it.</summary>
    public async Task CheckAsync(Handling handling, Func<CancellationToken, Task> next, CancellationToken cancel)
    {
        await next(cancel).ConfigureAwait(false);
        if (!areOptionsShared.Value
            && !handling.Services.GetRequiredService<ContextsOfScope>().Made.Contains(typeof(TContext))) return;
        if (ContextOf(handling.Services) is not { } context) return;
        var hasSaved = handling.Services.GetRequiredService<ContextHooks>().TakeSaved(context);
        try
        {
            if (handling.Inbox.IsOf(new ContextWork(context)) || !context.ChangeTracker.HasChanges()) return;
        }
        catch (ObjectDisposedException)
        {
            return;
        }
        var problem = Problem(handling, context);
        // What it has saved by itself it would save again each time: that has to come to an end.
        throw hasSaved ? new CourierException(problem) : new LeftUndoneException(problem);
    }

    /// <summary>What cannot be made here has not been used either.</summary>
    private static TContext? ContextOf(IServiceProvider scope)
    {
        try
        {
            return scope.GetService<TContext>();
        }
        catch (Exception)
        {
            return null;
        }
    }

    private static string Problem(Handling handling, TContext context)
    {
        var (name, changed) = (typeof(TContext).Name, context.ChangeTracker.Entries()
            .Where(e => e.State is EntityState.Added or EntityState.Modified or EntityState.Deleted)
            .CountBy(e => $"{e.Metadata.ClrType.Name} {e.State}").Select(c => $"{c.Value} {c.Key}"));
        return $"{handling.Receiver.Name} has returned, and nobody saves what it changed in {name} "
            + $"({string.Join(", ", changed.Take(5))}): say queue.Enlist<{name}>() where '{handling.Queue}' is bound, "
            + "so that it commits with the event, or have the receiver save; what is not to be saved, it can drop with "
            + "ChangeTracker.Clear()";
    }
}
