using System.CommandLine;
using System.Diagnostics;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary><c>courier status</c>: how queues, workers and outboxes do.</summary>
internal static class StatusCommand
{
    private const int HeldShown = 10, SomethingIsWrong = 3, TooLong = 4;
    private static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(1), UsualLimit = TimeSpan.FromMinutes(5);

    private const string Help = """
        Shows how full queues and outboxes are, how fast they move, who receives, and what goes wrong.

        Examples:
          courier status --broker sqlite:broker.db
          courier status --broker sqlite:broker.db --store sqlite:harbour.db --store sqlite:fares.db
          courier status --check || echo "somebody has to look"
          courier status --queue fares --wait-until drained --limit 10m && ./deploy
          courier status --json | jq '.queues[] | select(.deadLetters > 0)'
        """;

    public static Command Create()
    {
        var command = new Command("status", Help);
        var json = Plain.JsonOption();
        var queues = QueuesOption();
        var check = new Option<bool>("--check")
        {
            Description =
                "Exit with 3 where a finding says that something is wrong, for health checks and deployments.",
        };
        var until = new Option<string?>("--wait-until")
        {
            HelpName = "drained",
            Description = "First wait until nothing waits any more, in these queues and outboxes; see --limit.",
        };
        until.AcceptOnlyFromAmong("drained");
        var limit = new Option<TimeSpan?>("--limit")
        {
            HelpName = "TIME",
            Description = $"Wait no longer, and exit with 4; such as 90s or 2h. [default: {Plain.Short(UsualLimit)}]",
            CustomParser = result => Plain.ParseTime(result),
        };
        foreach (var option in new Option[] { json, queues, check, until, limit }) command.Options.Add(option);
        var connections = new Connections().AddTo(command);
        command.SetAction(async (result, cancel) =>
        {
            await using var broker = connections.FindBroker(result);
            var stores = connections.FindStores(result);
            if (broker is null && stores.Count == 0) throw Connections.NotSaid("broker");
            if (result.GetValue(until) is null && result.GetValue(limit) is not null)
                throw new UsageException("--limit goes with --wait-until drained");
            if (broker is not null) _ = Connections.ReportsOf(broker.Port);
            try
            {
                var named = result.GetValue(queues) ?? [];
                var (status, isInTime) = result.GetValue(until) is null ? (await ReadAsync(), true)
                    : await WaitAsync(ReadAsync, result.GetValue(limit) ?? UsualLimit, cancel);
                if (status is { Broker: null, Stores.Count: 0, Unreachable: [var problem, ..] })
                    throw new CourierException(problem.What);
                var held = await ReadHeldAsync(status, stores, cancel);
                if (result.GetValue(json)) StatusJson.Print(status, held);
                else StatusText.Print(status, held);
                return !isInTime ? TooLong : status.Unreachable.Count > 0 ? 1
                    : result.GetValue(check) && status.Findings.Any(f => f.IsWrong) ? SomethingIsWrong : 0;

                async Task<CourierStatus> ReadAsync() => Only(named, await CourierStatus.ReadAsync(
                    broker?.Port, [.. stores.Select(s => (s.Name, s.Port))], cancel));
            }
            finally
            {
                foreach (var store in stores) await store.DisposeAsync();
            }
        });
        return command;
    }

    public static Option<string[]> QueuesOption() => Completion.OfQueues(new Option<string[]>("--queue")
    {
        HelpName = "NAME", Description = "Only this queue, and who receives from it; may be repeated.",
    });

    internal static CourierStatus Only(string[] queues, CourierStatus status)
    {
        if (queues.Length == 0 || status.Broker is not { } broker) return status;
        if (queues.Except(broker.Queues.Select(q => q.Queue)).FirstOrDefault() is { } unknown)
            throw new CourierException($"{broker.Broker} has no queue '{unknown}'; it has "
                + string.Join(", ", broker.Queues.Select(q => q.Queue)));
        var figures = new BrokerFigures(
            broker.Broker, broker.At, [.. broker.Queues.Where(q => queues.Contains(q.Queue))],
            broker.Workers is null ? null : [.. broker.Workers
                .Select(w => w with { Receivers = [.. w.Receivers.Where(r => queues.Contains(r.Queue))] })
                .Where(w => w.Receivers.Count > 0)])
        {
            Instructions = [.. broker.Instructions.Where(i => i.Queue is null || queues.Contains(i.Queue))],
        };
        return new CourierStatus(figures, status.Stores, status.Unreachable);
    }

    /// <summary>Looks once a second until nothing waits, and tells people how many do.</summary>
    private static async Task<(CourierStatus Status, bool IsInTime)> WaitAsync(
        Func<Task<CourierStatus>> read, TimeSpan limit, CancellationToken cancel)
    {
        using var timer = new PeriodicTimer(LookEvery);
        var (began, said, before) = (Stopwatch.GetTimestamp(), "", (CourierStatus?)null);
        while (true)
        {
            var status = await read();
            if (before is not null && status.IsDrainedSince(before)) return (status, true);
            var mayBeDrained = status.IsDrained && before is not { IsDrained: true };
            before = status;
            if (mayBeDrained) continue;
            var waiting = WaitingIn(status);
            if (waiting != said) await Console.Error.WriteLineAsync($"waiting: {Plain.Line(waiting)}");
            said = waiting;
            if (Stopwatch.GetElapsedTime(began) >= limit) return (status, false);
            await timer.WaitForNextTickAsync(cancel);
        }
    }

    private static string WaitingIn(CourierStatus status) => status.IsDrained ? "all is handled, and more comes"
        : string.Join(", ", status.Queues.Where(q => q.Figures.Waiting != 0)
            .Select(q => $"{q.Figures.Queue} {Plain.Number(q.Figures.Waiting)}")
            .Concat(status.Stores.Where(s => s.Outbox.Waiting > 0)
                .Select(s => $"outbox of {s.Store} {Plain.Number(s.Outbox.Waiting)}"))
            .Concat(status.Unreachable.Select(f => f.What)));

    private static async Task<Dictionary<string, IReadOnlyList<HeldEvent>>> ReadHeldAsync(
        CourierStatus status, List<Named<IStorePort>> stores, CancellationToken cancel)
    {
        var held = new Dictionary<string, IReadOnlyList<HeldEvent>>();
        foreach (var store in stores)
            if (status.Stores.Any(s => s.Store == store.Name && s.Outbox.Held + s.Outbox.Refused > 0))
                held[store.Name] = await store.Port.Held.ReadHeldAsync(HeldShown, cancellationToken: cancel);
        return held;
    }
}
