using System.CommandLine;
using GentleCourier.Engines;
using GentleCourier.Watching;

namespace GentleCourier.Cli;

/// <summary><c>courier record</c>: how queues and outboxes do, over time, for plots and forecasts.</summary>
internal static class RecordCommand
{
    private static readonly TimeSpan Usually = TimeSpan.FromSeconds(10);

    public static Command Create()
    {
        var command = new Command(
            "record",
            """
            Writes down how queues and outboxes do over time.

            It looks every few seconds, and writes what has changed into a CSV file for each day, to be drawn by
            `courier plot`, or read by any other program. It goes on until it is ended, also while the broker is away,
            and may be started again at any time: the time between is a gap.

            Columns: time (UTC), kind, name, ready, in_hand, scheduled, dead_letters, oldest_s (age of the oldest), the
            counts came, handled, failed and set_aside since the queue was made, workers, handlers, busy (0 to 1),
            every_s, text. Kinds: queue, outbox, look (all queues and outboxes without a row of this time are as they
            were), found and over (a finding), deployment (of another version), note, start.

            Examples:
              courier record --dir /var/lib/courier &
              courier record note "harbour 2.4.1 deployed" --dir /var/lib/courier
              courier plot --dir /var/lib/courier --last 6h --out day.png
            """);
        var folder = Folder();
        var every = Plain.EveryOption(shortest: 100, Usually);
        command.Options.Add(folder);
        command.Options.Add(every);
        var connections = new Connections().AddTo(command);
        command.SetAction(async (result, cancel) =>
        {
            await using var broker = connections.FindBroker(result) ?? throw Connections.NotSaid("broker");
            var stores = connections.FindStores(result);
            _ = Connections.ReportsOf(broker.Port);
            var files = new RecordFiles(result.GetRequiredValue(folder));
            using var occupied = files.Occupy();
            try
            {
                await RecordAsync(broker.Port, stores, files, result.GetValue(every) ?? Usually, cancel);
            }
            catch (OperationCanceledException) when (cancel.IsCancellationRequested)
            {
                // That is how it ends.
            }
            finally
            {
                foreach (var store in stores) await store.DisposeAsync();
            }
            return 0;
        });
        command.Subcommands.Add(CreateNote());
        return command;
    }

    /// <summary>Where recordings are.</summary>
    public static Option<DirectoryInfo> Folder() => new("--dir")
    {
        HelpName = "DIR", Description = "The folder with the recording.", Required = true,
    };

    private static Command CreateNote()
    {
        var command = new Command("note", "Writes a note into a recording, which plots show: a deployment, an outage.");
        var text = new Argument<string>("TEXT") { Description = "What has happened, in a few words." };
        var folder = Folder();
        command.Arguments.Add(text);
        command.Options.Add(folder);
        command.SetAction(result =>
        {
            var note = Plain.Line(result.GetRequiredValue(text)).Trim();
            if (note.Length == 0) throw new UsageException("say in a few words what has happened");
            new RecordFiles(result.GetRequiredValue(folder))
                .Append([new Row(DateTimeOffset.UtcNow, RowKind.Note, "") { Text = note }]);
        });
        return command;
    }

    private static async Task RecordAsync(IBroker broker, List<Named<IStorePort>> stores, RecordFiles files,
        TimeSpan every, CancellationToken cancel)
    {
        var recorder = new Recorder(every);
        (string, IStorePort)[] ports = [.. stores.Select(s => (s.Name, s.Port))];
        using var timer = new PeriodicTimer(every);
        var said = "";
        await Console.Error.WriteLineAsync(
            $"recording into {files.Folder} every {Plain.Age(every)}; end it with ctrl-c");
        do
        {
            var status = await CourierStatus.ReadAsync(broker, ports, cancel);
            var problems = status.Unreachable.Select(f => f.What).ToList();
            try
            {
                files.Append(recorder.RowsOf(status, DateTimeOffset.UtcNow));
            }
            catch (IOException e)
            {
                // A disk that is full, say: what has not been written is said anew, when there is room.
                recorder = new Recorder(every);
                problems.Add($"cannot write: {e.Message}");
            }
            var problem = string.Join("; ", problems);
            if (problem == said) continue;
            said = problem;
            await Console.Error.WriteLineAsync($"{Plain.Time(DateTimeOffset.UtcNow)} "
                + (problem.Length > 0 ? Plain.Line(problem) : "all is well again"));
        }
        while (await timer.WaitForNextTickAsync(cancel));
    }
}
