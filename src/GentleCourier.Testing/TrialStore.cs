using System.Data.Common;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Hosting;
using GentleCourier.Scheduling;
using GentleCourier.Tables;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Testing;

/// <summary>
/// A store with outbox and inbox for one test, in which nothing runs: a receiver is handed what the test makes by hand,
/// and what it has written, published and decided is looked at. It is the library that calls it, in a transaction as in
/// production. Use it from one thread at a time.
/// </summary>
public sealed class TrialStore : IAsyncDisposable
{
    private const string Name = "store";

    private readonly TrialOptions options;
    private readonly TrialClock clock;
    private readonly Sight sight;
    private readonly Places places;
    private readonly IHost host;

    private TrialStore(TrialOptions options, Action<HostApplicationBuilder>? register)
    {
        this.options = options;
        clock = new TrialClock(options.Start);
        sight = new Sight(clock, options.Log);
        var builder = Hosts.NewBuilder(Name);
        register?.Invoke(builder);
        places = Places.For(options);
        if (!Joining.HasCourier(builder.Services))
            builder.Services.AddGentleCourier(courier => courier.Options.Source = $"urn:trial:{Name}");
        var service = builder.Services.Join(Name, places, clock, sight);
        host = builder.Build();
        service.Provider = host.Services;
    }

    /// <summary>The services that were registered, for a receiver's constructor.</summary>
    public IServiceProvider Services => host.Services;

    /// <summary>Publishes into it.</summary>
    public IOutbox Outbox => Services.GetRequiredService<IOutbox>();

    /// <summary>
    /// The database: connections, transactions, and the connection string for a context of the test's.
    /// </summary>
    public IStore Store => Services.GetRequiredService<IStore>();

    /// <summary>The clock, which stands unless <see cref="Advance"/> moves it.</summary>
    public TimeProvider Clock => clock.Application;

    /// <summary>Makes one.</summary>
    /// <param name="register">
    /// Registers what the receivers need, or all that the program does; without <c>AddGentleCourier</c> there is a
    /// store in a SQLite file.
    /// </param>
    /// <param name="prepare">
    /// Makes the service's own tables, before the library's are made: migrations, or a context's <c>EnsureCreated</c>.
    /// It gets the services of a scope.
    /// </param>
    /// <param name="options">How it is run.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <exception cref="CourierException">The tables cannot be made, or a receiver cannot be built.</exception>
    public static async Task<TrialStore> CreateAsync(
        Action<HostApplicationBuilder>? register = null,
        Func<IServiceProvider, CancellationToken, Task>? prepare = null,
        TrialOptions? options = null, CancellationToken cancellationToken = default)
    {
        var store = new TrialStore(TrialOptions.Checked(options), register);
        try
        {
            await Hosts.PrepareAsync(store.host, prepare, cancellationToken).ConfigureAwait(false);
            await store.Services.GetRequiredService<Preparation>().StartAsync(cancellationToken).ConfigureAwait(false);
            return store;
        }
        catch (Exception)
        {
            await store.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }

    /// <summary>Hands an event to a receiver that the test has made.</summary>
    /// <param name="receiver">The receiver.</param>
    /// <param name="contract">The event's data.</param>
    /// <param name="about">What is said about the delivery.</param>
    /// <param name="queue">The limits of its queue, such as <see cref="ReceiverOptions.MaxAttempts"/>.</param>
    /// <param name="cancellationToken">Cancels the receiver, as the stop of a host does.</param>
    /// <exception cref="TrialException">It has not returned within the limit.</exception>
    public Task<AttemptResult> HandleByAsync<TContract>(
        IReceiver<TContract> receiver, TContract contract, TrialDelivery? about = null,
        Action<QueueBinding>? queue = null, CancellationToken cancellationToken = default)
        where TContract : notnull
    {
        ArgumentNullException.ThrowIfNull(receiver);
        return HandleAsync(HandRuns.Of(receiver, queue), [(contract, about)], cancellationToken);
    }

    /// <summary>Hands events to a receiver of batches that the test has made.</summary>
    /// <param name="receiver">The receiver.</param>
    /// <param name="batch">The events' data, in their order, and what is said about each delivery.</param>
    /// <param name="queue">The limits of its queue.</param>
    /// <param name="cancellationToken">Cancels the receiver, as the stop of a host does.</param>
    /// <exception cref="TrialException">It has not returned within the limit.</exception>
    public Task<AttemptResult> HandleBatchByAsync<TContract>(
        IBatchReceiver<TContract> receiver, IReadOnlyList<(TContract Contract, TrialDelivery? About)> batch,
        Action<QueueBinding>? queue = null, CancellationToken cancellationToken = default)
        where TContract : notnull
    {
        ArgumentNullException.ThrowIfNull(receiver);
        ArgumentNullException.ThrowIfNull(batch);
        ArgumentOutOfRangeException.ThrowIfZero(batch.Count, nameof(batch));
        return HandleAsync(HandRuns.Of(receiver, queue), batch, cancellationToken);
    }

    /// <summary>
    /// Hands an event to the receiver that the registered services have for it: built by them, with the queue's limits,
    /// with what is around it, and in the transaction of its context.
    /// </summary>
    /// <param name="contract">The event's data.</param>
    /// <param name="about">What is said about the delivery.</param>
    /// <param name="queue">Its queue; may be left out where one queue alone handles such events.</param>
    /// <param name="cancellationToken">Cancels the receiver, as the stop of a host does.</param>
    /// <exception cref="TrialException">No queue handles it, or several do; or it has not returned in time.</exception>
    public Task<AttemptResult> HandleAsync<TContract>(
        TContract contract, TrialDelivery? about = null, string? queue = null,
        CancellationToken cancellationToken = default)
        where TContract : notnull =>
        HandleAsync(HandRuns.Find(Services, typeof(TContract), queue), [(contract, about)], cancellationToken);

    /// <summary>Hands events to the receiver of batches that the registered services have for them.</summary>
    /// <param name="batch">The events' data, in their order, and what is said about each delivery.</param>
    /// <param name="queue">Their queue; may be left out where one queue alone handles such events.</param>
    /// <param name="cancellationToken">Cancels the receiver, as the stop of a host does.</param>
    /// <exception cref="TrialException">
    /// No queue handles them, or several do; or it has not returned in time.
    /// </exception>
    public Task<AttemptResult> HandleBatchAsync<TContract>(
        IReadOnlyList<(TContract Contract, TrialDelivery? About)> batch, string? queue = null,
        CancellationToken cancellationToken = default)
        where TContract : notnull
    {
        ArgumentNullException.ThrowIfNull(batch);
        ArgumentOutOfRangeException.ThrowIfZero(batch.Count, nameof(batch));
        return HandleAsync(HandRuns.Find(Services, typeof(TContract), queue), batch, cancellationToken);
    }

    /// <summary>
    /// What has been published into it so far, in its order; behind that, what is for later.
    /// </summary>
    /// <param name="transaction">Seen from this transaction of the test's; null: what is committed.</param>
    /// <param name="cancellationToken">Ends the wait for the database.</param>
    public async Task<IReadOnlyList<PublishedEvent>> PublishedAsync(
        DbTransaction? transaction = null, CancellationToken cancellationToken = default)
    {
        var (codec, store) = (Services.GetRequiredService<ContractCodec>(), Services.GetRequiredService<IStorePort>());
        var published = new List<PublishedEvent>();
        await store.Tables.RunAsync(
            new Statements("read").ReadPage(
                $"SELECT {Sql.Row} AS place, event FROM courier.outbox ORDER BY place", "place",
                row => published.Add(new PublishedEvent(Name, CourierEvent.Read(row.Bytes(1)), codec, clock.Now))),
            transaction, cancellationToken).ConfigureAwait(false);
        foreach (var later in await store.LaterEvents.ReadAsync(
            new LaterFilter(), int.MaxValue, null, transaction, cancellationToken).ConfigureAwait(false))
        {
            published.Add(
                new PublishedEvent(Name, CourierEvent.Read(later.Json), codec, clock.Now) { Due = later.Due });
        }
        return published;
    }

    /// <summary>Moves the clock on.</summary>
    /// <exception cref="InvalidOperationException">A receiver is running.</exception>
    public void Advance(TimeSpan time)
    {
        ArgumentOutOfRangeException.ThrowIfLessThan(time, TimeSpan.Zero);
        if (!clock.MoveTo(clock.Now + time))
            throw new InvalidOperationException("the clock stands while a receiver runs; move it before or after that");
    }

    /// <summary>Removes it.</summary>
    public async ValueTask DisposeAsync()
    {
        if (host is IAsyncDisposable disposable) await disposable.DisposeAsync().ConfigureAwait(false);
        await places.DisposeAsync().ConfigureAwait(false);
    }

    private async Task<AttemptResult> HandleAsync<TContract>(QueueBinding binding,
        IReadOnlyList<(TContract Contract, TrialDelivery? About)> batch, CancellationToken cancellationToken)
        where TContract : notnull
    {
        var before = (await PublishedAsync(null, cancellationToken).ConfigureAwait(false))
            .Select(p => p.Event.Id).ToHashSet(StringComparer.Ordinal);
        var seen = sight.Handled.Count;
        var json = Services.GetRequiredService<CourierSetup>().Options;
        var deliveries = batch
            .Select(item => HandRuns.Encode(item.Contract, item.About ?? new(), json, Clock)).ToList();
        using var run = new HandRun(binding, Services, clock, deliveries);
        var handling = run.HandleAsync(cancellationToken);
        try
        {
            await handling.WaitAsync(options.Limit, CancellationToken.None).ConfigureAwait(false);
        }
        catch (TimeoutException) when (!handling.IsCompleted)
        {
            throw sight.Problem(
                $"""
                the receiver has not returned within {TrialText.Of(options.Limit)}:
                {string.Join('\n', sight.Running.Select(r => $"  {r}"))}
                Does it wait for the clock, which stands? One that really takes so long needs a higher
                TrialOptions.Limit
                """);
        }
        run.Tell();
        var published = await PublishedAsync(null, cancellationToken).ConfigureAwait(false);
        var results = sight.Handled.Skip(seen).ToList();
        return new AttemptResult(results, [.. published.Where(p => !before.Contains(p.Event.Id))]);
    }
}
