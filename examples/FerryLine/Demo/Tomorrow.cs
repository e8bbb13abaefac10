using Spectre.Console;

namespace FerryLine.Demo;

/// <summary>
/// The timetable of the next day. For the sake of the audience the first half of it leaves in an hour and some seconds,
/// so that their reminders fall due while it watches; the others wait until tomorrow.
/// </summary>
internal static class Tomorrow
{
    /// <summary>What is due within this time belongs to the play.</summary>
    public static readonly TimeSpan Soon = TimeSpan.FromMinutes(30);

    private static readonly TimeSpan Notice = TimeSpan.FromHours(1);

    public static async Task PlanAsync(Day day, Gates gates, CancellationToken cancel)
    {
        var (now, cancelled) = (DateTimeOffset.UtcNow, 0);
        for (var i = 0; i < day.Sailings.Count; i++)
        {
            var leaves = i < day.Sailings.Count / 2 ? now + Notice + TimeSpan.FromSeconds(2 + (i * 0.25))
                : now + TimeSpan.FromDays(1) + TimeSpan.FromMinutes(40 * i);
            await gates.PlanAsync(NameOf(day.Sailings[i]), leaves, cancel);
        }
        for (var i = 3; i < day.Sailings.Count; i += 4, cancelled++)
            await gates.CancelAsync(NameOf(day.Sailings[i]), cancel);
        AnsiConsole.MarkupLine(
            $"tomorrow's timetable: {day.Sailings.Count} sailings, of which {cancelled} are cancelled; passengers are "
            + "reminded an hour before the others");
    }

    private static string NameOf(Sailing sailing) => $"tomorrow/{sailing.Id}";
}
