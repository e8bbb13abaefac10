using System.CommandLine;
using System.Globalization;
using GentleCourier.ByHand;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier steer</c>: has running workers receive otherwise than their settings say.</summary>
internal static class SteerCommand
{
    private const int TooLong = 4;

    private static readonly Argument<string> Queue = Completion.OfQueues(new Argument<string>("QUEUE")
    {
        HelpName = "QUEUE", Description = "The queue that they receive from.",
    });
    private static readonly Option<string?> Worker = WorkerChoice.Completed(new Option<string?>("--worker")
    {
        HelpName = "WORKER", Description = "One worker, as `courier status` names it. [default: all, later ones too]",
    });
    private static readonly Option<string?> Prefetch = new("--prefetch")
    {
        HelpName = "N", Description = "How many deliveries each may hold: a number, self-tuned or unlimited.",
    };
    private static readonly Option<int?> Parallel = new("--parallel")
    {
        HelpName = "N", Description = "How many handlers each runs at once.",
    };
    private static readonly Option<double?> Rate = new("--max-per-second")
    {
        HelpName = "N", Description = "How many events each begins in a second at the most.",
    };
    private static readonly Option<int?> Brake = new("--brake-after")
    {
        HelpName = "N", Description = "How many events that fail alike put its brake on; 0: none, and it comes off.",
    };
    private static readonly Option<bool> End = new("--end")
    {
        Description = "Have them receive as their settings say.",
    };
    private static readonly Option<bool> Json = Plain.JsonOption();

    public static Command Create()
    {
        var command = new Command(
            "steer",
            """
            Has running workers receive from a queue otherwise than their settings say, without a restart.

            It stands for a day unless --for or --until says otherwise, also for workers that start meanwhile. What is
            said of one worker goes before what is said of all; what was said before of the same is replaced. A worker
            that cannot work so says why, and goes on as before.

            Examples:
              courier steer fares --parallel 16 --for 2h --why "backlog after the outage"
              courier steer notices --max-per-second 5
              courier steer fares --worker pier-7/4711 --prefetch 1
              courier steer fares --end
            """);
        command.Arguments.Add(Queue);
        foreach (var option in new Option[] { Worker, Prefetch, Parallel, Rate, Brake, End })
            command.Options.Add(option);
        var order = new OrderOptions("1d").AddTo(command);
        command.Options.Add(Json);
        var connections = new Connections().AddTo(command);
        command.SetAction((result, cancel) => RunAsync(connections, order, result, cancel));
        return command;
    }

    private static async Task<int> RunAsync(
        Connections connections, OrderOptions order, ParseResult result, CancellationToken cancel)
    {
        var (queue, isEnd, steering) = (result.GetRequiredValue(Queue), result.GetValue(End), SteeringOf(result));
        if (isEnd != steering.IsEmpty)
            throw new UsageException(
                "say how they are to receive (--prefetch, --parallel, --max-per-second, --brake-after), or --end");
        if (!isEnd && steering.Problems().FirstOrDefault() is { } problem) throw new UsageException(problem);
        var (duration, note) = (order.DurationOf(result) ?? Orders.SteeringFor, order.NoteOf(result));
        await using var broker = connections.Broker(result);
        var places = await Places.OfQueueAsync(broker, queue, cancel);
        var one = result.GetValue(Worker) is not { } name ? null
            : WorkerChoice.Named(await Places.WorkersAsync(broker, cancel), name)[0].Worker;
        if (one is not null && one.Receivers.All(r => r.Queue != queue))
            throw new CourierException($"worker {one.Worker} does not receive from queue {queue}");
        var given = await Places.OrderAsync(
            places,
            orders => isEnd ? orders.EndSteeringAsync(queue, one?.Id, cancel)
                : orders.SteerAsync(queue, one?.Id, steering, duration, note, cancel),
            worker => one is null ? worker.Receivers.Any(r => r.Queue == queue) : worker.Id == one.Id);
        var heard = await Heard.WaitAsync(given, cancel);
        var refused = heard.Obey.SelectMany(
            w => w.Receivers.Where(r => r.Queue == queue && r.SteeringProblem is not null),
            (w, r) => (w.Worker, Problem: r.SteeringProblem!)).ToList();
        if (result.GetValue(Json))
        {
            Plain.PrintJson(new
            {
                queue, worker = one?.Id, steering = isEnd ? null : steering.ToString(), workers = heard.ForScripts(),
                refused = refused.Select(r => new { r.Worker, r.Problem }),
            });
        }
        else
        {
            Print(queue, one?.Worker, isEnd ? null : steering, duration, heard with
            {
                Obey = [.. heard.Obey.Where(w => refused.TrueForAll(r => r.Worker != w.Worker))],
            });
            foreach (var (worker, why) in refused)
                Plain.WriteHanging("wrong ", $"worker {worker} does not, and goes on as before: {why}", Plain.Wrong);
        }
        return refused.Count > 0 ? 1 : heard.Late.Count > 0 ? TooLong : 0;
    }

    private static void Print(string queue, string? worker, Steering? steering, TimeSpan duration, Heard heard)
    {
        AnsiConsole.WriteLine(
            (worker is null ? $"workers of queue {queue} are" : $"worker {worker} of queue {queue} is") + " to receive "
            + (steering is null ? "as settings say"
                : $"with {steering} until {Plain.Time(DateTimeOffset.UtcNow + duration)}"));
        heard.Print("obeys", "obey", "they go on as before");
    }

    private static Steering SteeringOf(ParseResult result) => new()
    {
        Prefetch = result.GetValue(Prefetch) is not { } text ? null
            : GentleCourier.Prefetch.TryParse(text, out var prefetch) ? prefetch
            : throw new UsageException($"--prefetch '{text}' is neither a number nor self-tuned nor unlimited"),
        Parallel = result.GetValue(Parallel), MaxPerSecond = result.GetValue(Rate), BrakeAfter = result.GetValue(Brake),
    };
}
