using System.CommandLine;
using System.Text;
using GentleCourier.Scheduling;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier schedules</c>: recurring events, and what can be done with them by hand.</summary>
internal static class SchedulesCommand
{
    public static Command Create()
    {
        var command = new Command(
            "schedules",
            """
            Lists the schedules of a store: when each fires next, and what was changed by hand.

            What is changed here stands until what the services declare is another.

            Examples:
              courier schedules --store fares
              courier schedules fire close-accounts --store fares
              courier schedules change close-accounts --cron "30 22 * * *" --store fares
            """);
        var json = Plain.JsonOption();
        command.Options.Add(json);
        var connections = new Connections().AddTo(command, broker: false);
        command.SetAction(async (result, cancel) =>
        {
            await using var store = connections.Store(result);
            var schedules = await new ScheduleBook(store).ListAsync(cancel);
            if (result.GetValue(json)) Plain.PrintJson(schedules.Select(ForScripts));
            else if (schedules.Count == 0) AnsiConsole.WriteLine($"no schedules in {store.DisplayName}");
            else foreach (var schedule in schedules) Print(schedule);
        });
        command.Subcommands.Add(Act(
            "pause", "It fires no more, until it is resumed; what is due already leaves.",
            (book, name, cancel) => book.PauseAsync(name, null, cancel), "paused"));
        command.Subcommands.Add(Act(
            "resume", "It fires again; what would have fired meanwhile is left out.",
            (book, name, cancel) => book.ResumeAsync(name, null, cancel), "resumed"));
        command.Subcommands.Add(Fire());
        command.Subcommands.Add(Change());
        command.Subcommands.Add(Act(
            "restore", "It fires again as it is declared.",
            (book, name, cancel) => book.RestoreAsync(name, null, cancel), "as declared"));
        command.Subcommands.Add(Act(
            "remove", "Removes a schedule that no service declares any more.",
            (book, name, cancel) => book.RemoveAsync(name, null, cancel), "removed"));
        return command;
    }

    private static Command Act(
        string name, string description, Func<ISchedules, string, CancellationToken, Task> act, string done) =>
        Act(
            new Command(name, description),
            async (book, schedule, result, cancel) =>
            {
                await act(book, schedule, cancel);
                Console.WriteLine($"{schedule}: {done}");
            });

    private static Command Act(
        Command command, Func<ISchedules, string, ParseResult, CancellationToken, Task> act)
    {
        var name = new Argument<string>("SCHEDULE") { Description = "Its name in the list." };
        command.Arguments.Add(name);
        var connections = new Connections().AddTo(command, broker: false);
        command.SetAction(async (result, cancel) =>
        {
            await using var store = connections.Store(result);
            await act(new ScheduleBook(store), result.GetRequiredValue(name), result, cancel);
        });
        return command;
    }

    private static Command Fire() => Act(
        new Command("fire", "It fires now, besides; also while it is paused. What it does next stays as it is."),
        async (book, name, _, cancel) =>
            Console.WriteLine($"{name}: the event {await book.FireAsync(name, null, cancel)} is in the outbox"));

    private static Command Change()
    {
        var command = new Command(
            "change",
            """
            Changes when a schedule fires. What is not said stays as it is.

            Examples:
              courier schedules change close-accounts --cron "30 22 * * 1-5" --time-zone Europe/Lisbon
              courier schedules change close-accounts --every 30m --missed skip
            """);
        var cron = new Option<string?>("--cron")
        {
            HelpName = "EXPRESSION", Description = "A cron expression of five fields, or six with seconds.",
        };
        var zone = new Option<string?>("--time-zone")
        {
            HelpName = "ZONE", Description = "The time zone of --cron, such as Europe/Lisbon.",
        };
        var every = Time("--every", "Instead of --cron: so often, 1s to 1d.");
        var missed = new Option<string?>("--missed")
        {
            Description = "What becomes of firings for whose time everything was down.",
        };
        missed.AcceptOnlyFromAmong("skip", "once", "each");
        var most = new Option<int?>("--max-missed")
        {
            HelpName = "N", Description = "With --missed each: how many at the most.",
        };
        var jitter = Time("--jitter", "Each leaves later by a random time below this.");
        foreach (var option in new Option[] { cron, zone, every, missed, most, jitter }) command.Options.Add(option);
        return Act(command, async (book, name, result, cancel) =>
        {
            if (new Option[] { cron, zone, every, missed, most, jitter }.All(o => result.GetResult(o) is null))
                throw new UsageException("change what? Say --cron, --every or another option");
            await book.ChangeAsync(
                name,
                options =>
                {
                    if (result.GetValue(cron) is { } expression) (options.Cron, options.Every) = (expression, null);
                    if (result.GetValue(every) is { } time)
                        (options.Cron, options.Every) = (result.GetValue(cron), time);
                    options.TimeZone = result.GetValue(zone) ?? options.TimeZone;
                    if (result.GetValue(missed) is { } what)
                        options.Missed = Enum.Parse<Missed>(what, ignoreCase: true);
                    options.MaxMissed = result.GetValue(most) ?? options.MaxMissed;
                    options.Jitter = result.GetValue(jitter) ?? options.Jitter;
                },
                cancellationToken: cancel);
            Print((await book.ListAsync(cancel)).First(s => s.Name == name));
        });
    }

    private static Option<TimeSpan?> Time(string name, string description) => new(name)
    {
        HelpName = "TIME", Description = description, CustomParser = result => Plain.ParseTime(result),
    };

    private static void Print(EventSchedule schedule)
    {
        AnsiConsole.MarkupLine($"[bold]{Plain.Cell(schedule.Name)}[/]  {Plain.Cell(Words(schedule.Options))}");
        Plain.WriteHanging(
            "  next     ", schedule.Problem is { } problem ? $"unknown: {problem}" : Times(schedule.Firings));
        Plain.WriteHanging("  last     ", schedule.LastFired is { } last ? Local(last, schedule) : "not yet");
        Plain.WriteHanging("  event    ", schedule.Type);
        if (schedule.PausedSince is { } paused)
            Plain.WriteHanging("  paused   ", $"since {Local(paused, schedule)}; it does not fire until it is resumed");
        if (schedule.ChangedSince is { } changed)
            Plain.WriteHanging(
                "  changed  ", $"by hand, {Local(changed, schedule)}; declared is {Words(schedule.Declared)}");
        if (schedule.DeclaredAge is not { } age || age > Declaring.Alive)
            Plain.WriteHanging("  declared ", schedule.DeclaredAge is { } ago
                ? $"by no process for {Plain.Age(ago)}; it goes on firing until it is removed"
                : "by no process that is known; it goes on firing until it is removed");
    }

    private static string Words(ScheduleOptions options)
    {
        var words = new StringBuilder(options.Every is { } every ? $"every {Plain.Age(every)}"
            : $"{options.Cron} in {options.TimeZone}");
        words.Append(options.Missed switch
        {
            Missed.Skip => ", missed ones are left out",
            Missed.Each => $", of missed ones up to {options.MaxMissed} fire",
            _ => ", of missed ones the last fires",
        });
        if (options.Jitter > TimeSpan.Zero) words.Append($", jitter {Plain.Age(options.Jitter)}");
        return words.ToString();
    }

    /// <summary>Local times; how far they are from UTC once, where that is the same for all.</summary>
    private static string Times(IReadOnlyList<DateTimeOffset> times) => times switch
    {
        [] => "never",
        [var first, ..] when times.All(t => t.Offset == first.Offset) =>
            string.Join(", ", times.Select(t => Local(t)[..^7])) + first.ToString(" (zzz)"),
        _ => string.Join(", ", times.Select(Local)),
    };

    private static string Local(DateTimeOffset time) =>
        time.ToString(time.Second == 0 ? "ddd yyyy-MM-dd HH:mm zzz" : "ddd yyyy-MM-dd HH:mm:ss zzz");

    private static string Local(DateTimeOffset time, EventSchedule schedule) => Local(TimeZoneInfo.ConvertTime(
        time.AddTicks(-(time.Ticks % TimeSpan.TicksPerSecond)),
        TimeZoneInfo.TryFindSystemTimeZoneById(schedule.Options.TimeZone, out var zone) ? zone : TimeZoneInfo.Utc));

    private static object ForScripts(EventSchedule schedule) => new
    {
        schedule.Name, schedule.Type, schedule.Problem, options = ForScripts(schedule.Options), next = schedule.Firings,
        schedule.Due, schedule.LastFired, schedule.PausedSince, schedule.ChangedSince,
        declared = ForScripts(schedule.Declared),
        declaredAgeSeconds = schedule.DeclaredAge?.TotalSeconds,
        data = Encoding.UTF8.GetString(schedule.Template.Data.Span),
    };

    private static object ForScripts(ScheduleOptions options) => new
    {
        options.Cron, timeZone = options.Cron is null ? null : options.TimeZone,
        everySeconds = options.Every?.TotalSeconds, options.Missed, options.MaxMissed,
        jitterSeconds = options.Jitter.TotalSeconds,
    };
}
