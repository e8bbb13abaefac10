using System.CommandLine;
using System.CommandLine.Parsing;
using System.Globalization;
using GentleCourier.Watching;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier forecast</c>: what becomes of a queue that nobody handles for a while.</summary>
internal static class ForecastCommand
{
    private const double Most = 1e9;

    private const string Help = """
        Says what a planned outage or deployment does to a queue.

        That is: how many events will wait, when they are handled, how long one waits at most, and how many workers
        keep that under a limit. Rates come from a recording, or are said by hand. What is said to be between two
        bounds is there nine times in ten, if events go on coming and being handled as they did.

        Examples:
          courier forecast --dir /var/lib/courier --queue fares --outage 30m
          courier forecast --dir /var/lib/courier --queue fares --outage 10m --longest-wait 20m --out plan.png
          courier forecast --come 20 --handle 8 --workers 4 --outage 30m
        """;

    public static Command Create()
    {
        var command = new Command("forecast", Help);
        var folder = new Option<DirectoryInfo?>("--dir")
        {
            HelpName = "DIR", Description = "The folder with the recording of `courier record`.",
        };
        var queue = new Option<string?>("--queue") { HelpName = "NAME", Description = "Which queue of it." };
        var last = Time("--last", "From so much of its end; 1h if it is not said.");
        var come = Number("--come", "By hand: so many events come a second.");
        var handle = Number("--handle", "By hand: so many a second does one worker handle that is never idle.");
        var waiting = Number("--waiting", "By hand: so many wait now.");
        var workers = new Option<int?>("--workers")
        {
            HelpName = "N", Description = "With so many workers; otherwise with those that the recording ends with.",
        };
        workers.Validators.Add(r =>
        {
            if (!r.Errors.Any() && r.GetValueOrDefault<int?>() is < 1 or > 10_000)
                r.AddError("--workers must be 1 to 10,000");
        });
        var begins = Time("--in", "The outage begins in such a time; at once if it is not said.");
        var outage = Time("--outage", "For how long nobody handles anything, such as 90s or 30m.");
        var limit = Time("--longest-wait", "How many workers are enough for no event to wait longer than this?");
        var file = new Option<FileInfo?>("--out")
        {
            HelpName = "FILE", Description = "A picture: FILE.png or FILE.svg.",
        };
        var json = Plain.JsonOption();
        foreach (var option in new Option[]
        {
            folder, queue, last, come, handle, waiting, workers, begins, outage, limit, file, json,
        }) command.Options.Add(option);
        command.SetAction(result =>
        {
            if (result.GetValue(file) is { } picture) Sheet.Checked(picture);
            var byHand = result.GetValue(come) is not null || result.GetValue(handle) is not null;
            if (byHand == result.GetValue(folder) is not null)
                throw new UsageException("say --dir and --queue, for rates that are recorded, or --come and --handle");
            var rates = byHand
                ? ByHand(result.GetValue(come), result.GetValue(handle), result.GetValue(waiting),
                    result.GetValue(workers))
                : Recorded(new RecordFiles(result.GetValue(folder)!), result.GetValue(queue),
                    result.GetValue(last) ?? TimeSpan.FromHours(1), result.GetValue(workers));
            var forecast = new OutagePlan(rates, result.GetValue(begins) ?? TimeSpan.Zero,
                result.GetValue(outage) ?? TimeSpan.Zero, result.GetValue(limit));
            if (result.GetValue(json)) Plain.PrintJson(forecast.ForScripts());
            else forecast.Print();
            if (result.GetValue(file) is not { } target) return 0;
            forecast.Draw(target.FullName, Plain.Zone);
            if (!result.GetValue(json)) AnsiConsole.WriteLine($"drawn into {target.FullName}");
            return 0;
        });
        return command;
    }

    private static Rates ByHand(double? come, double? handle, double? waiting, int? workers) =>
        come is null || handle is not > 0 || workers is null
            ? throw new UsageException("say --come, --handle (above 0) and --workers, for rates by hand")
            : new Rates("by hand", DateTimeOffset.Now, Flow.Of(come.Value), Flow.Of(handle.Value), workers.Value,
                (long)(waiting ?? 0), "each event by itself; bursts make it rougher");

    private static Rates Recorded(RecordFiles files, string? queue, TimeSpan last, int? workers)
    {
        if (files.Span() is not { } span)
            throw new UsageException($"nothing is recorded in {files.Folder}; `courier record --dir …` does it");
        if (queue is null) throw new UsageException("say of which --queue");
        // A point for each look.
        var timeline = new Timeline(span.Last - last, span.Last, int.MaxValue)
            .With(files.Read(span.Last - last, span.Last).Where(r => r.Kind is not RowKind.Queue || r.Name == queue));
        var series = timeline.Queues is [var known, ..] ? known : throw new UsageException(
            $"nothing of queue '{queue}' is recorded of the last {Plain.Age(last)} in {files.Folder}");
        var flows = QueueFlows.Of(series);
        if (flows.Arrivals is null)
            throw new UsageException($"only {flows.Looks} looks with counts at queue '{queue}' are recorded of the "
                + $"last {Plain.Age(last)}; {Flow.FewestIntervals} are the fewest, and an hour is better: record on, "
                + "or say --last");
        if (flows.Worker is not { PerSecond: > 0 } worker)
            throw new UsageException($"how fast workers of queue '{queue}' are cannot be told from the last "
                + $"{Plain.Age(last)}: none was seen at work; say --last, or --come and --handle");
        return new Rates($"queue {queue}", flows.Last, flows.Arrivals, worker, workers ?? flows.Workers ?? 0,
            flows.Waiting ?? 0, $"from {Plain.Number(flows.Looks)} looks within {Plain.Age(last)}; workers by "
            + (flows.HasQueued ? "what they did while events waited" : "how busy they were"));
    }

    private static Option<TimeSpan?> Time(string name, string description) => new(name)
    {
        HelpName = "TIME", Description = description, CustomParser = result => Plain.ParseTime(result),
    };

    private static Option<double?> Number(string name, string description) => new(name)
    {
        HelpName = "N", Description = description,
        CustomParser = result =>
        {
            if (double.TryParse(result.Tokens[0].Value, NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture,
                out var number) && number <= Most) return number;
            result.AddError($"{name} must be a number, 0 or more");
            return null;
        },
    };
}
