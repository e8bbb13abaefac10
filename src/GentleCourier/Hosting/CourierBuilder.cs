using System.Reflection;
using GentleCourier.Engines;
using GentleCourier.Hosting;
using GentleCourier.Events;
using GentleCourier.Scheduling;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier;

/// <summary>Says what this process publishes to and receives from. Used at start, by one thread.</summary>
public sealed class CourierBuilder
{
    private readonly Dictionary<string, QueueBinding> bindings = new(StringComparer.Ordinal);

    internal CourierBuilder(IServiceCollection services) => Services = services;

    /// <summary>The application's services, for engines and extensions to add to.</summary>
    public IServiceCollection Services { get; }

    /// <summary>Options of the whole process; settings <c>Courier:…</c> go before them.</summary>
    public CourierOptions Options { get; } = new();

    /// <summary>Options of the relay; settings <c>Courier:Relay:…</c> go before them.</summary>
    public RelayOptions Relay { get; } = new();

    /// <summary>For how long the store keeps things; settings <c>Courier:Retention:…</c> go before it.</summary>
    public RetentionOptions Retention { get; } = new();

    /// <summary>What the service has around its receivers, the outermost first.</summary>
    internal List<HandlingStep> Steps { get; } = [];

    /// <summary>
    /// What packages of this library have around them and around all that: they do nothing before a receiver.
    /// </summary>
    internal List<HandlingStep> Checks { get; } = [];

    internal Dictionary<string, DeclaredSchedule> Schedules { get; } = new(StringComparer.Ordinal);

    internal IReadOnlyCollection<QueueBinding> Bindings => bindings.Values;

    internal List<Func<IStore, CancellationToken, Task>> StorePreparations { get; } = [];

    /// <summary>
    /// Each says what to do where the tables of the store are missing that something of the service makes, such as its
    /// migrations; or null, and the host may make them.
    /// </summary>
    internal List<Func<IServiceProvider, IStorePort, string?>> MakersOfTables { get; } = [];

    /// <summary>Makes an engine known, so that addresses may name it.</summary>
    /// <param name="package">Where it is from.</param>
    /// <param name="make">Makes it, once it is certain that it can be made.</param>
    /// <exception cref="CourierException">The package is of another version than the library.</exception>
    internal CourierBuilder AddEngine(Assembly package, Func<IEngine> make)
    {
        PackageVersion.Check(package);
        return AddEngine(make());
    }

    internal CourierBuilder AddEngine(IEngine engine)
    {
        ArgumentNullException.ThrowIfNull(engine);
        Services.AddSingleton(engine);
        return this;
    }

    /// <summary>
    /// Prepares the service's own tables when the host starts: after the library's, and before anything is received or
    /// relayed. While the store is away it is waited for; what <paramref name="prepare"/> throws otherwise fails the
    /// start. It has to bear being repeated, also by several instances at once.
    /// </summary>
    public CourierBuilder PrepareStore(Func<IStore, CancellationToken, Task> prepare)
    {
        ArgumentNullException.ThrowIfNull(prepare);
        StorePreparations.Add(prepare);
        return this;
    }

    /// <summary>
    /// Puts code around every call of a receiver in this process, whatever its queue; what is added first is outermost.
    /// </summary>
    public CourierBuilder AroundHandlers(HandlingStep step)
    {
        ArgumentNullException.ThrowIfNull(step);
        Steps.Add(step);
        return this;
    }

    /// <summary>Receives from a queue.</summary>
    /// <param name="queue">1 to 100 lower-case letters, digits, <c>.</c>, <c>-</c> or <c>_</c>.</param>
    /// <param name="bind">Says which receivers handle its events, and with what limits.</param>
    /// <exception cref="ArgumentException">
    /// The name is not valid, the queue is bound already, or nothing handles its events.
    /// </exception>
    public CourierBuilder Receive(string queue, Action<QueueBinding> bind)
    {
        ArgumentNullException.ThrowIfNull(bind);
        if (!Names.IsQueue(queue))
            throw new ArgumentException($"'{queue}' is not a queue's name: {Names.QueueRule}", nameof(queue));
        var binding = new QueueBinding(queue, Services);
        bind(binding);
        if (binding.Handlers.Count == 0)
            throw new ArgumentException(
            $"queue '{queue}' has no receiver: call Handle<TContract, TReceiver>()", nameof(bind));
        if (!bindings.TryAdd(queue, binding))
            throw new ArgumentException($"queue '{queue}' is bound twice in this process", nameof(queue));
        return this;
    }

    /// <summary>
    /// Declares a recurring event. The store keeps the schedule, and the relay that leads fires it: exactly once for
    /// each time, however many processes declare it. The event's id is the schedule's name and the firing's time,
    /// which is its CloudEvents <c>time</c> too. By <c>courier schedules</c> it can be paused and changed without a
    /// deployment.
    /// </summary>
    /// <param name="name">Its name, by the rule for queues.</param>
    /// <param name="contract">The data of its events.</param>
    /// <param name="configure">Says when it fires; settings <c>Courier:Schedules:{name}:…</c> go before it.</param>
    /// <exception cref="ArgumentException">The name is not valid, or declared already.</exception>
    public CourierBuilder Schedule<TContract>(string name, TContract contract, Action<ScheduleOptions> configure)
        where TContract : notnull => Schedule(name, EventDraft.Of(contract), configure);

    /// <summary>
    /// Declares a recurring event by a draft: with a subject, a partition key or headers, or of a type that has no
    /// class. The store keeps the schedule, and the relay that leads fires it, exactly once for each time.
    /// </summary>
    /// <param name="name">Its name, by the rule for queues.</param>
    /// <param name="draft">
    /// What its events have in common; without id, time and due time, which are the firing's.
    /// </param>
    /// <param name="configure">Says when it fires; settings <c>Courier:Schedules:{name}:…</c> go before it.</param>
    /// <exception cref="ArgumentException">
    /// The name is not valid, or declared already; or the draft says what is the firing's to say.
    /// </exception>
    public CourierBuilder Schedule(string name, EventDraft draft, Action<ScheduleOptions> configure)
    {
        ArgumentNullException.ThrowIfNull(draft);
        ArgumentNullException.ThrowIfNull(configure);
        if (!Names.IsQueue(name))
            throw new ArgumentException($"'{name}' is not a schedule's name: {Names.QueueRule}", nameof(name));
        if (draft.Options is not { Id: null, Time: null, Due: null })
            throw new ArgumentException(
                $"the draft of schedule '{name}' has an id, a time or a due time; each firing has its own",
                nameof(draft));
        var options = new ScheduleOptions();
        configure(options);
        if (!Schedules.TryAdd(name, new DeclaredSchedule(name, options, draft)))
            throw new ArgumentException($"schedule '{name}' is declared twice in this process", nameof(name));
        return this;
    }
}
