using System.CommandLine;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary><c>courier watch</c>: queues, workers and outboxes as they do, live.</summary>
internal static class WatchCommand
{
    private static readonly TimeSpan Usually = TimeSpan.FromSeconds(2);

    public static Command Create()
    {
        var command = new Command(
            "watch",
            """
            Shows queues, outboxes and findings live, with keys to look closer.

            Closer is: a queue's depth in the last minutes, its workers, what is next in line, its dead letters by
            cause. What was seen last stays on the screen while the broker is away.

            Where the output is no terminal it prints one line a look; with --json, the status in one line.

            Examples:
              courier watch --broker sqlite:broker.db --store sqlite:harbour.db
              courier watch --queue fares --every 5s
              courier watch --json | jq -c '[.at, .queues[].ready]'
            """);
        var every = Plain.EveryOption(shortest: 500, Usually);
        var queues = StatusCommand.QueuesOption();
        var json = Plain.JsonOption();
        foreach (var option in new Option[] { every, queues, json }) command.Options.Add(option);
        var connections = new Connections().AddTo(command);
        command.SetAction(async (result, cancel) =>
        {
            await using var broker = connections.FindBroker(result);
            var stores = connections.FindStores(result);
            if (broker is null && stores.Count == 0) throw Connections.NotSaid("broker");
            if (broker is not null) _ = Connections.ReportsOf(broker.Port);
            try
            {
                var named = result.GetValue(queues) ?? [];
                using var watcher = new Watcher(broker?.Port, [.. stores.Select(s => (s.Name, s.Port))], named,
                    result.GetValue(every) ?? Usually);
                if (result.GetValue(json) || Console.IsOutputRedirected || !AnsiConsole.Profile.Capabilities.Ansi)
                    await watcher.PrintAsync(result.GetValue(json), cancel);
                else await watcher.ShowAsync(cancel);
            }
            catch (OperationCanceledException) when (cancel.IsCancellationRequested)
            {
                // That is how one ends.
            }
            finally
            {
                foreach (var store in stores) await store.DisposeAsync();
            }
            return 0;
        });
        return command;
    }
}
