using System.Diagnostics;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Scheduling;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.DependencyInjection.Extensions;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Testing;

/// <summary>
/// Tries services out: their own registrations, as they stand in their programs, on the library as it is, with stores
/// and a broker of the trial's own and a clock that the test moves. Several run side by side. Properties may be read
/// from any thread; one method runs at a time.
/// </summary>
/// <remarks>
/// What is otherwise than in production: every service uses the trial's places, whatever its settings say; all that the
/// library reckons goes by the trial's clock, and so does what asks for a <see cref="TimeProvider"/>; leases are long,
/// so that none ends when time is moved; outbox and queues in one database are not moved in one step, so that each
/// event is seen; and files are in memory where the system has a file system there, where syncing costs nothing.
/// </remarks>
public sealed class Trial : IAsyncDisposable
{
    private const string Elsewhere = "trial.elsewhere";

    private static readonly TimeSpan ShortestFarewell = TimeSpan.FromMilliseconds(500),
        LongestFarewell = TimeSpan.FromSeconds(10), ShortRest = TimeSpan.FromMilliseconds(20),
        LongestStart = TimeSpan.FromMinutes(2);

    private readonly TrialClock clock;
    private readonly Sight sight;
    private readonly Places places;
    private readonly Course course;
    private readonly TimeSpan longest;
    private readonly List<TrialService> services = [];
    private readonly SemaphoreSlim opening = new(1);
    private IBroker? broker;
    private int isDisposed;

    /// <param name="options">How it is run.</param>
    /// <exception cref="ArgumentOutOfRangeException">An option is out of range.</exception>
    public Trial(TrialOptions? options = null)
    {
        var said = TrialOptions.Checked(options);
        if (said.Database is not null)
            throw new ArgumentException(
                "TrialOptions.Database is for a TrialStore: each service of a trial has a new database; say on which "
                + "server with TrialOptions.Server", nameof(options));
        longest = said.Limit;
        clock = new TrialClock(said.Start);
        sight = new Sight(clock, said.Log);
        places = Places.For(said);
        course = new Course(clock, sight, said, () => Running, OpenBrokerAsync);
    }

    /// <summary>What the clock shows.</summary>
    public DateTimeOffset Now => clock.Now;

    /// <summary>The clock, as the services have it.</summary>
    public TimeProvider Clock => clock.Application;

    /// <summary>What is done to each event from now on, and must be harmless.</summary>
    public TrialFaults Faults
    {
        get => sight.Faults;
        set => sight.Faults = value;
    }

    /// <summary>All events that have left an outbox, in the order in which the broker took them; each once.</summary>
    public IReadOnlyList<PublishedEvent> Published => sight.Published;

    /// <summary>What came of each delivery, in the order in which it was settled.</summary>
    public IReadOnlyList<HandledEvent> Deliveries => sight.Handled;

    /// <summary>The one event of a contract that has been published.</summary>
    /// <param name="which">Of those that this is true of; null: of all.</param>
    /// <exception cref="TrialException">There is none, or there are several; and what has happened instead.</exception>
    public PublishedEvent SinglePublished<TContract>(Func<TContract, bool>? which = null) where TContract : notnull =>
        sight.Single("published", Published, p => p.Is<TContract>(), p => p.Data<TContract>(), which);

    /// <summary>The one delivery of a contract that a receiver has handled.</summary>
    /// <param name="which">Of those that this is true of; null: of all.</param>
    /// <exception cref="TrialException">There is none, or there are several; and what has happened instead.</exception>
    public HandledEvent SingleHandled<TContract>(Func<TContract, bool>? which = null) where TContract : notnull =>
        sight.Single("handled", Deliveries, d => d.Outcome == HandledAs.Handled && d.Is<TContract>(),
            d => d.Data<TContract>(), which);

    /// <summary>The one delivery of a contract that has been set aside.</summary>
    /// <param name="which">Of those that this is true of; null: of all.</param>
    /// <exception cref="TrialException">There is none, or there are several; and what has happened instead.</exception>
    public HandledEvent SingleSetAside<TContract>(Func<TContract, bool>? which = null) where TContract : notnull =>
        sight.Single("set aside", Deliveries, d => d.Outcome == HandledAs.SetAside && d.Is<TContract>(),
            d => d.Data<TContract>(), which);

    /// <summary>That nothing has been set aside.</summary>
    /// <exception cref="TrialException">Something has, and why.</exception>
    public void NothingSetAside()
    {
        var aside = Deliveries.Where(d => d.Outcome == HandledAs.SetAside).ToList();
        if (aside.Count > 0)
            throw sight.Problem($"expected that nothing is set aside, and {aside.Count} are:\n{Sight.Lines(aside)}");
    }

    private List<TrialService> Running
    {
        get
        {
            lock (services) return services.FindAll(s => s.Runs);
        }
    }

    /// <summary>
    /// Starts a service by what it registers. Nothing of the machine's settings is read: what the service needs of its
    /// configuration, add it here.
    /// </summary>
    /// <param name="name">Its name in this trial; two of one name are two instances with one store.</param>
    /// <param name="register">Registers what the program does, <c>AddGentleCourier</c> with it.</param>
    /// <param name="prepare">
    /// Does what the program does between building its host and running it, such as its migrations. It gets the
    /// services of a scope.
    /// </param>
    /// <param name="cancellationToken">Ends the wait for its start.</param>
    /// <exception cref="TrialException">No courier was registered.</exception>
    public async Task<TrialService> StartAsync(
        string name, Action<HostApplicationBuilder> register,
        Func<IServiceProvider, CancellationToken, Task>? prepare = null, CancellationToken cancellationToken = default)
    {
        ArgumentNullException.ThrowIfNull(register);
        CheckName(name);
        var builder = Hosts.NewBuilder(name);
        register(builder);
        var service = Join(builder.Services, name);
        var host = builder.Build();
        (service.Host, service.Provider) = (host, host.Services);
        try
        {
            await Hosts.PrepareAsync(host, prepare, cancellationToken).ConfigureAwait(false);
            await host.StartAsync(cancellationToken).ConfigureAwait(false);
            return service;
        }
        catch (Exception)
        {
            host.Dispose();
            throw;
        }
    }

    /// <summary>
    /// Starts a service by running its program's own entry point in this process: whatever it does before its host
    /// runs, it does. Of a program with a web server, see <see cref="Join"/>.
    /// </summary>
    /// <typeparam name="TOfProgram">Any type of the program's assembly.</typeparam>
    /// <param name="name">Its name in this trial; two of one name are two instances with one store.</param>
    /// <param name="args">The program's arguments, such as <c>--Section:Key=value</c>.</param>
    /// <exception cref="TrialException">It is no program, or ends before it has started.</exception>
    public async Task<TrialService> StartProgramAsync<TOfProgram>(string name, params string[] args)
    {
        ArgumentNullException.ThrowIfNull(args);
        CheckName(name);
        TrialService? service = null;
        // Watching settings for changes costs a watch of the kernel's each, of which there are few.
        var run = ProgramRun.Start(
            typeof(TOfProgram).Assembly, ["--hostBuilder:reloadConfigOnChange=false", .. args],
            joined =>
            {
                // What it logs is told to the trial, and not to the test's console.
                joined.RemoveAll<ILoggerProvider>();
                service = Join(joined, name);
            });
        try
        {
            var host = await run.Built.WaitAsync(LongestStart).ConfigureAwait(false);
            if (service is null)
                throw new TrialException(
                    $"the program of '{name}' has built a host without asking anybody about its services");
            (service.Host, service.Ended) = (host, run.Ended);
            await Task.WhenAny(service.Started.Task, run.Ended).WaitAsync(LongestStart).ConfigureAwait(false);
        }
        catch (TimeoutException)
        {
            throw sight.Problem(
                $"the program of '{name}' has not started within {TrialText.Of(LongestStart)}: what does it wait for "
                + "before its host runs?");
        }
        if (service.Started.Task.IsCompleted) return service;
        await run.Ended.ConfigureAwait(false);
        throw new TrialException($"the program of '{name}' has ended before its host had started");
    }

    /// <summary>
    /// Runs a program that ends by itself, such as a job of the night, by its own entry point, to its end. Meanwhile
    /// time moves as in <see cref="RunUntilIdleAsync"/>.
    /// </summary>
    /// <typeparam name="TOfProgram">Any type of the program's assembly.</typeparam>
    /// <param name="name">Its name in this trial; what is run a second time under it finds the same store.</param>
    /// <param name="args">The program's arguments.</param>
    /// <exception cref="TrialException">
    /// It is no program; or it has not ended though nothing happens any more within the limit.
    /// </exception>
    /// <exception cref="Exception">What the program has thrown.</exception>
    public async Task RunProgramAsync<TOfProgram>(string name, params string[] args)
    {
        var service = await StartProgramAsync<TOfProgram>(name, args).ConfigureAwait(false);
        var (ended, seen, since) = (service.Ended!, sight.Version, Stopwatch.GetTimestamp());
        while (!ended.IsCompleted)
        {
            await RunUntilIdleAsync().ConfigureAwait(false);
            if (sight.Version != seen) (seen, since) = (sight.Version, Stopwatch.GetTimestamp());
            if (Stopwatch.GetElapsedTime(since) > longest)
                throw sight.Problem(
                    $"""
                    for {TrialText.Of(longest)} nothing has happened, and the program of '{name}' has not ended.
                    What does it wait for? One that runs until it is stopped is started by StartProgramAsync
                    """);
            await Task.WhenAny(ended, Task.Delay(ShortRest)).ConfigureAwait(false);
        }
        await ended.ConfigureAwait(false);
    }

    /// <summary>
    /// Has a host take part that something else makes and starts, such as a web application's test server: call it when
    /// the program has registered its services, in <c>ConfigureTestServices</c>.
    /// </summary>
    /// <param name="registered">The host's services.</param>
    /// <param name="name">Its name in this trial.</param>
    /// <exception cref="TrialException">No courier has been registered.</exception>
    public TrialService Join(IServiceCollection registered, string name)
    {
        ArgumentNullException.ThrowIfNull(registered);
        CheckName(name);
        var service = registered.Join(name, places, clock, sight);
        lock (services) services.Add(service);
        return service;
    }

    /// <summary>
    /// Events of a type are received by somebody who is no part of this trial: they are taken, and seen in
    /// <see cref="Published"/>. Without it an event that nobody receives waits in its outbox, and the trial fails.
    /// </summary>
    /// <typeparam name="TContract">The contract.</typeparam>
    public Task ReceivedElsewhereAsync<TContract>() where TContract : notnull =>
        ReceivedElsewhereAsync(ContractCodec.WireTypeOf(typeof(TContract)));

    /// <summary>The same by the wire type.</summary>
    public async Task ReceivedElsewhereAsync(string type, CancellationToken cancellationToken = default)
    {
        ArgumentException.ThrowIfNullOrEmpty(type);
        var to = await OpenBrokerAsync(cancellationToken).ConfigureAwait(false);
        await to.PrepareAsync(new Topology([Elsewhere], [new Route(type, Elsewhere)]), create: true, cancellationToken)
            .ConfigureAwait(false);
    }

    /// <summary>
    /// Goes on until nothing is left to do. Delays before another attempt, brakes and events for later are passed
    /// without waiting; no schedule fires, and where one would be due first, it ends before that.
    /// </summary>
    /// <exception cref="TrialException">
    /// It does not come to an end: a handler does not return, an event cannot leave, or something goes on for ever. The
    /// message says what, and what has happened so far.
    /// </exception>
    public Task RunUntilIdleAsync(CancellationToken cancellationToken = default) =>
        course.RunUntilIdleAsync(cancellationToken);

    /// <summary>
    /// Goes on up to a time, from one thing that is due to the next: schedules fire, timers of the services' too. At
    /// its end nothing is left to do that is due by then.
    /// </summary>
    /// <exception cref="TrialException">As for <see cref="RunUntilIdleAsync"/>.</exception>
    /// <exception cref="ArgumentOutOfRangeException">That time is over.</exception>
    public Task AdvanceToAsync(DateTimeOffset time, CancellationToken cancellationToken = default)
    {
        ArgumentOutOfRangeException.ThrowIfLessThan(time, clock.Now);
        return course.AdvanceToAsync(time, cancellationToken);
    }

    /// <summary>The same by a time from now.</summary>
    public Task AdvanceByAsync(TimeSpan time, CancellationToken cancellationToken = default) =>
        AdvanceToAsync(clock.Now + time, cancellationToken);

    /// <summary>Stops one service, as a deployment does; others go on.</summary>
    /// <exception cref="AggregateException">Something in it could not be stopped.</exception>
    public async Task StopAsync(TrialService service, CancellationToken cancellationToken = default)
    {
        ArgumentNullException.ThrowIfNull(service);
        var stopping = service.StopAsync(cancellationToken);
        await PassAsync(stopping).ConfigureAwait(false);
        await stopping.ConfigureAwait(false);
    }

    /// <summary>Stops all services, and removes what the trial has made.</summary>
    public async ValueTask DisposeAsync()
    {
        if (Interlocked.Exchange(ref isDisposed, 1) != 0) return;
        clock.Free();
        List<TrialService> last;
        lock (services) last = services.FindAll(s => s is { Runs: true });
        using var limit = new CancellationTokenSource(LongestFarewell);
        // All at once: each may wait for what another has in hand.
        var stopping = Task.WhenAll(last.Select(s => s.StopAsync(limit.Token)));
        await PassAsync(stopping).ConfigureAwait(false);
        // A test that has ended is not to fail by what its services do at their end; that is told.
        await stopping.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        if (stopping.Exception is { } problem) sight.Log($"a service could not be stopped: {Words.InLine(problem)}");
        if (broker is not null) await broker.DisposeAsync().ConfigureAwait(false);
        await places.DisposeAsync().ConfigureAwait(false);
        opening.Dispose();
    }

    /// <summary>What the services wait for at their end, by the trial's clock, passes.</summary>
    private async Task PassAsync(Task stopping)
    {
        var began = Stopwatch.GetTimestamp();
        while (!stopping.IsCompleted && Stopwatch.GetElapsedTime(began) < LongestFarewell)
        {
            await Task.WhenAny(stopping, Task.Delay(5)).ConfigureAwait(false);
            if (!stopping.IsCompleted && Stopwatch.GetElapsedTime(began) > ShortestFarewell)
                clock.MoveTo(clock.Now + TimeSpan.FromSeconds(1));
        }
    }

    private async Task<IBroker> OpenBrokerAsync(CancellationToken cancellationToken)
    {
        if (broker is not null) return broker;
        await opening.WaitAsync(cancellationToken).ConfigureAwait(false);
        try
        {
            if (broker is not null) return broker;
            var made = places.Engines[0].CreateBroker(Places.Parse(places.Broker), clock.Aside);
            await made.PrepareAsync(Topology.Empty, create: true, cancellationToken).ConfigureAwait(false);
            return broker = made;
        }
        finally
        {
            opening.Release();
        }
    }

    private static void CheckName(string name)
    {
        if (!Names.IsQueue(name))
            throw new ArgumentException($"'{name}' is not a service's name: {Names.QueueRule}", nameof(name));
    }
}
