using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Events;
using GentleCourier.Hosting;
using GentleCourier.Receiving.Handling;
using GentleCourier.Scheduling;
using GentleCourier.Tables;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Testing;

/// <summary>
/// What is still to be done by the services of a trial, as their databases say. It is read in the direction in which
/// events go, so that none is missed on its way; only one that a handler publishes meanwhile can be, and handlers are
/// seen.
/// </summary>
/// <param name="now">When it is read.</param>
/// <param name="tries">How often what is held had been tried when it was first seen; it is added to.</param>
internal sealed class Reading(DateTimeOffset now, Dictionary<string, int> tries)
{
    private const int MostInKeyOrder = 1000;

    private readonly List<string> busy = [];
    private readonly List<string> held = [];

    /// <summary>What could be done now, in words.</summary>
    public IReadOnlyList<string> Busy => busy;

    /// <summary>
    /// Whether all of that may well wait for the clock: it is in hand, and a batch gathers, or a rate is limited, or a
    /// brake is on.
    /// </summary>
    public bool WaitsForTime { get; private set; }

    /// <summary>What waits in an outbox and has been tried again in vain, in words.</summary>
    public IReadOnlyList<string> Held => held;

    /// <summary>What is due next, save for schedules.</summary>
    public Due? Next { get; private set; }

    /// <summary>Which schedule fires next.</summary>
    public Due? NextSchedule { get; private set; }

    public static async Task<Reading> TakeAsync(
        IReadOnlyList<TrialService> services, IBroker broker, DateTimeOffset now, Dictionary<string, int> tries,
        CancellationToken cancellationToken)
    {
        var reading = new Reading(now, tries);
        var stores = new HashSet<string>(StringComparer.Ordinal);
        var queues = new Dictionary<string, bool>(StringComparer.Ordinal);
        foreach (var service in services.Where(s => s.Runs))
        {
            var (setup, preparation) = (service.Services.GetRequiredService<CourierSetup>(),
                service.Services.GetRequiredService<Preparation>());
            if (!preparation.IsDone) reading.busy.Add($"service '{service.Name}' is not ready: {preparation.WaitsFor}");
            foreach (var binding in setup.Bindings)
                queues[binding.Queue] = queues.GetValueOrDefault(binding.Queue) || binding.Options.InKeyOrder;
            if (preparation.IsDone && service.Services.FindStore() is { } store && stores.Add(store.DisplayName))
                await reading.ReadAsync(service, setup, store, cancellationToken).ConfigureAwait(false);
        }
        if (queues.Count > 0 && reading.busy.Count == 0)
            await reading.ReadAsync(broker, queues, services, cancellationToken).ConfigureAwait(false);
        return reading;
    }

    private async Task ReadAsync(
        TrialService service, CourierSetup setup, IStorePort store, CancellationToken cancellationToken)
    {
        var (ready, waiting, later) = (0L, 0L, 0L);
        var schedules = new List<ScheduleRow>();
        var statements = ScheduleTable.Read(new Statements("read"), ScheduleTable.All, schedules)
            .Read($"SELECT count(*) FROM courier.outbox_later", row => later = row.Number(0))
            .Read($"SELECT count(*) FROM courier.outbox_held", row => waiting = row.Number(0))
            .Read($"SELECT count(*) FROM courier.outbox", row => ready = row.Number(0));
        await store.Tables.RunAsync(statements, null, cancellationToken).ConfigureAwait(false);

        if (!setup.Relays) return;
        if (later > 0) await ReadLaterAsync(service, store, cancellationToken).ConfigureAwait(false);
        if (waiting > 0) await ReadHeldAsync(service, store, cancellationToken).ConfigureAwait(false);
        if (ready == 0 && later + waiting > 0)
        {
            // What is there no longer may have gone into the outbox.
            await store.Tables.RunAsync(
                new Statements("read").Read($"SELECT count(*) FROM courier.outbox", row => ready = row.Number(0)), null,
                cancellationToken).ConfigureAwait(false);
        }
        if (ready > 0) busy.Add($"{Count(ready)} in the outbox of '{service.Name}'");
        foreach (var missing in setup.Schedules.Where(s => !schedules.Exists(row => row.Name == s.Name)))
            busy.Add($"the schedule '{missing.Name}' of '{service.Name}' is not written down yet");
        foreach (var row in schedules)
            if (row.Due is { } due) NextSchedule = Sooner(NextSchedule, due, $"the schedule '{row.Name}'", isNow: true);
    }

    private async Task ReadLaterAsync(TrialService service, IStorePort store, CancellationToken cancellationToken)
    {
        var first = await store.LaterEvents.ReadAsync(new LaterFilter(), 1, null, null, cancellationToken)
            .ConfigureAwait(false);
        foreach (var later in first)
            Next = Sooner(Next, later.Due, $"{later.Type} {later.Id} of '{service.Name}', for later", isNow: true);
    }

    private async Task ReadHeldAsync(TrialService service, IStorePort store, CancellationToken cancellationToken)
    {
        foreach (var row in await store.Held.ReadHeldAsync(1000, 0, cancellationToken).ConfigureAwait(false))
        {
            var what = $"{row.Type} {row.Id} in the outbox of '{service.Name}'";
            tries.TryAdd(what, row.Attempts);
            if (row.Due is not { } due || row.Attempts > tries[what]) held.Add($"{what}: {row.LastError}");
            else Next = Sooner(Next, due, what, isNow: true);
        }
    }

    private async Task ReadAsync(IBroker broker, IReadOnlyDictionary<string, bool> queues,
        IReadOnlyList<TrialService> services, CancellationToken cancellationToken)
    {
        WaitsForTime = true;
        foreach (var (queue, isInKeyOrder) in queues)
        {
            // What is in hand or ready comes first, and then what is due next. In key order what is ready may wait for
            // one that comes again later.
            var first = await broker.Reports!.PeekAsync(queue, isInKeyOrder ? MostInKeyOrder : 1, cancellationToken)
                .ConfigureAwait(false);
            if (first.FirstOrDefault(e => e.State == QueuedState.Scheduled) is { Until: { } until } later)
                Next = Sooner(Next, until, $"{NameOf(later)} of queue '{queue}', which comes again", isNow: false);
            if (first is not [{ State: not QueuedState.Scheduled and var state } next, ..]) continue;
            var brake = BrakeOf(queue, services);
            var how = state == QueuedState.InHand ? "in hand" : "ready";
            busy.Add($"{NameOf(next)} of queue '{queue}', which is {how}"
                + (brake is null ? "" : $", while the queue's brake is on: {brake}"));
            WaitsForTime &= state == QueuedState.InHand || brake is not null
                || (isInKeyOrder && first.Any(e => e.State == QueuedState.Scheduled));
        }
    }

    private static string NameOf(QueuedEvent queued)
    {
        try
        {
            var @event = CourierEvent.Read(queued.Json);
            return $"{@event.Type} {@event.Id}";
        }
        catch (UnreadableEventException)
        {
            return "an event that cannot be read";
        }
    }

    private static string? BrakeOf(string queue, IReadOnlyList<TrialService> services) => services
        .SelectMany(s => s.Services.GetRequiredService<CourierSetup>().Bindings.Count == 0 ? []
            : s.Services.GetRequiredService<ReceiverHost>().Workers)
        .Select(w => w.Figures).FirstOrDefault(f => f.Queue == queue && f.Brake is not null)?.Brake;

    private Due? Sooner(Due? known, DateTimeOffset at, string what, bool isNow)
    {
        if (at <= now && isNow)
        {
            busy.Add($"{what} is due");
            return known;
        }
        return known is { } sooner && sooner.At <= at ? known : new Due(at, what);
    }

    private static string Count(long count) => count == 1 ? "1 event" : $"{count} events";
}

/// <summary>What is due, and when.</summary>
internal readonly record struct Due(DateTimeOffset At, string What);
