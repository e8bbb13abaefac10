using GentleCourier;
using GentleCourier.Engines;
using Spectre.Console;

namespace FerryLine.Demo;

/// <summary>The accounts of the day are closed every evening at eleven; the play does not wait for that.</summary>
internal static class Closing
{
    public const string Schedule = "close-accounts";
    private const string ByHand = " by hand";

    /// <summary>Fires the schedule, as anybody could by hand.</summary>
    public static async Task CloseAsync(DemoFiles files, CancellationToken cancel)
    {
        string[] command = ["schedules", "fire", Schedule, "--store", "fares"];
        await Tool.RunAsync(files.Folder, command, cancel);
        AnsiConsole.MarkupLine($"the accounts are closed ahead of time: `courier {string.Join(' ', command)}`");
    }

    /// <summary>In the turmoil accounts are closed every second, until they no longer are.</summary>
    public static Task StopAsync(DemoFiles files, CancellationToken cancel) =>
        Tool.RunAsync(files.Folder, ["schedules", "pause", Schedule, "--store", "fares"], cancel);

    /// <summary>
    /// The events that there must have been, by the schedule and those that came: every firing from the first to the
    /// last that it knows of.
    /// </summary>
    public static async Task<List<string>> PublishedAsync(
        IStorePort fares, IEnumerable<string> came, CancellationToken cancel)
    {
        var row = (await fares.Schedules.ReadAsync(false, null, cancel)).Rows.Single(r => r.Name == Schedule);
        var byHand = came.Where(id => id.EndsWith(ByHand, StringComparison.Ordinal)).ToList();
        var times = came.Except(byHand).Select(id => DateTimeOffset.Parse(id[(Schedule.Length + 1)..])).Order()
            .ToList();
        if (row.Fired is not { } last) return byHand;
        var all = new List<string>(byHand);
        for (var time = times is [var first, ..] ? first : last; time <= last; time = time.AddSeconds(1))
            all.Add($"{Schedule}@{time.UtcDateTime:yyyy-MM-dd'T'HH:mm:ss'Z'}");
        return all;
    }
}
