using System.Data.Common;
using GentleCourier.Engines;
using GentleCourier.EntityFrameworkCore;
using GentleCourier.Events;
using GentleCourier.Hosting;
using GentleCourier.Receiving.Handling;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Metadata;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.DependencyInjection.Extensions;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Logging.Abstractions;

namespace GentleCourier;

/// <summary>Connects a service's contexts with its outbox and its inbox.</summary>
public static class CourierContexts
{
    /// <summary>
    /// Makes a context known, so that events can be added to it and handled in its transactions. It must work on the
    /// store's database, have <see cref="CourierModel.AddGentleCourier"/> in its model, and be registered with
    /// <c>AddDbContext</c>, before or after this.
    /// </summary>
    /// <param name="courier">The builder.</param>
    /// <typeparam name="TContext">
    /// The context. Where its migrations make the tables of the store, the host does not.
    /// </typeparam>
    public static CourierBuilder UseDbContext<TContext>(this CourierBuilder courier) where TContext : DbContext
    {
        ArgumentNullException.ThrowIfNull(courier);
        PackageVersion.Check(typeof(CourierContexts).Assembly);
        return Use<TContext>(courier);
    }

    private static CourierBuilder Use<TContext>(CourierBuilder courier) where TContext : DbContext
    {
        if (courier.MakersOfTables.Contains(MigrationsOf<TContext>)) return courier;
        courier.Services.TryAddSingleton(services => new UnsavedEvents(
            services.GetService<ILogger<DbContext>>() ?? NullLogger<DbContext>.Instance));
        courier.Services.TryAddSingleton(services => new ContextHooks(
            services.GetRequiredService<IStorePort>(), services.GetRequiredService<ContractCodec>(),
                services.GetRequiredService<CourierClock>().Time, services.GetRequiredService<UnsavedEvents>()));
        courier.Services.TryAddScoped<ContextsOfScope>();
        var unsaved = new UnsavedChanges<TContext>(courier.Services);
        courier.Services.ConfigureDbContext<TContext>((services, options) =>
        {
            options.AddInterceptors(services.GetRequiredService<ContextHooks>());
            unsaved.Made(services);
        });
        courier.Checks.Insert(0, unsaved.CheckAsync);
        courier.MakersOfTables.Add(MigrationsOf<TContext>);
        return courier;
    }

    /// <summary>
    /// The receivers of this queue find the context of their scope in the transaction of their delivery, or batch: what
    /// it saves commits together with the row in the inbox. When the receiver returns, changes that are not saved yet
    /// are saved.
    /// </summary>
    /// <param name="queue">The queue.</param>
    /// <typeparam name="TContext">A context that <see cref="UseDbContext"/> has made known.</typeparam>
    /// <exception cref="InvalidOperationException">The queue has a context already.</exception>
    /// <remarks>
    /// The transaction begins before the receiver is called, with the row in the inbox: of two copies only one comes as
    /// far as the receiver. One that does slow work first had better call
    /// <see cref="BeginAsync{TContract}(Delivery{TContract}, DbContext, CancellationToken)"/> after it.
    /// </remarks>
    public static QueueBinding Enlist<TContext>(this QueueBinding queue) where TContext : DbContext
    {
        ArgumentNullException.ThrowIfNull(queue);
        if (queue.Before is not null)
            throw new InvalidOperationException(
            $"queue '{queue.Queue}' has a context already, and a delivery has one transaction");
        queue.Before = static (incoming, cancellationToken) =>
            BeginAsync(incoming.Inbox, incoming.Build<TContext>(), cancellationToken);
        return queue;
    }

    /// <summary>
    /// Begins the transaction in which the event is handled as one of the context's, on its connection: what it saves
    /// commits together with the row in the inbox. When the receiver returns, changes that are not saved yet are saved.
    /// </summary>
    /// <param name="delivery">The delivery.</param>
    /// <param name="context">A context that <see cref="UseDbContext"/> has made known, without a transaction.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <exception cref="CourierException">
    /// The queue is received without an inbox, the delivery's transaction has begun already, or the database cannot be
    /// used.
    /// </exception>
    /// <exception cref="OperationCanceledException">
    /// Another worker has just handled a copy of this event: let it pass, the delivery is accepted without effect.
    /// </exception>
    public static Task BeginAsync<TContract>(
        this Delivery<TContract> delivery, DbContext context, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(delivery);
        return BeginAsync(delivery.Inbox, context, cancellationToken);
    }

    /// <summary>
    /// Begins the transaction in which a batch is handled as one of the context's, on its connection: what it saves
    /// commits together with the rows in the inbox of all events that succeed. When the receiver returns, changes that
    /// are not saved yet are saved. Save nothing for an event that fails.
    /// </summary>
    /// <param name="batch">The batch.</param>
    /// <param name="context">A context that <see cref="UseDbContext"/> has made known, without a transaction.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    /// <exception cref="CourierException">
    /// The queue is received without an inbox, the batch's transaction has begun already, or the database cannot be
    /// used.
    /// </exception>
    /// <exception cref="OperationCanceledException">
    /// Another worker has just handled one of the events: let it pass, the others are handled one at a time.
    /// </exception>
    public static Task BeginAsync<TContract>(
        this DeliveryBatch<TContract> batch, DbContext context, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(batch);
        return BeginAsync(batch.Inbox, context, cancellationToken);
    }

    // Not async itself: what it says of retries is to hold for the receiver that calls it.
    private static Task<DbTransaction> BeginAsync(
        InboxTransaction inbox, DbContext context, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(context);
        _ = ContextHooks.Of(context);
        NoRetries.From(context);
        return inbox.BeginAsync(new ContextWork(context), cancellationToken);
    }

    /// <summary>
    /// Checks the context's model against the store, and says what to do where its migrations make the tables of it.
    /// </summary>
    private static string? MigrationsOf<TContext>(IServiceProvider services, IStorePort store)
        where TContext : DbContext
    {
        var name = typeof(TContext).Name;
        using var scope = services.CreateScope();
        var context = ServiceProviderServiceExtensions.GetService<TContext>(scope.ServiceProvider)
            ?? throw new CourierException(
                $"{name} is not registered: say services.AddDbContext<{name}>(…), or leave out "
                + $"courier.UseDbContext<{name}>()");
        // The model that is used at run time has forgotten what is for migrations alone.
        var outbox = AccessorExtensions.GetService<IDesignTimeModel>(context).Model.FindEntityType(typeof(OutboxEvent))
            ?? throw new CourierException(
                $"{name} has no outbox in its model: say model.AddGentleCourier(Database) in its OnModelCreating");
        return outbox.GetSchemaQualifiedTableName() != store.OutboxTable
            ? throw new CourierException(
                $"{name} has its outbox in the table {outbox.GetSchemaQualifiedTableName()}, and the store "
                + $"{store.DisplayName} in {store.OutboxTable}; "
                + "both must be one, or its events would never be relayed")
            : outbox.IsTableExcludedFromMigrations() ? null
                : $"run the migrations of {name}, which make the tables of Gentle Courier here, before the host starts "
                    + $"(`dotnet ef database update`, or Database.MigrateAsync); where none makes version "
                    + $"{StoreModel.Version} of them yet, `dotnet ef migrations add "
                    + $"GentleCourierStore{StoreModel.Version}` writes one";
    }
}
