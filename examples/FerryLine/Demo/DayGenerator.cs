using FerryLine.Contracts;

namespace FerryLine.Demo;

/// <summary>Makes up a day; the same seed makes the same day.</summary>
internal static class DayGenerator
{
    private static readonly Pier[] Piers =
    [
        new("Longsand", 340), new("Tern Point", 270), new("Old Light", 410),
        new("Saltmarsh", 220), new("Gull Rock", 380), new("Northhaven", 450),
    ];

    private static readonly (
        string Name, int Limit)[] Vessels = [("Dunlin", 90), ("Guillemot", 120), ("Oystercatcher", 150)];

    /// <param name="seed">Which day.</param>
    /// <param name="count">How many sailings; of more than 24, several leave at the same time.</param>
    public static Day Make(int seed, int count = 24)
    {
        var random = new Random(seed);
        var sailings = new List<Sailing>();
        var taps = new List<Tap>();
        var number = 0;
        for (var i = 0; i < count; i++)
        {
            var pier = Piers[random.Next(Piers.Length)];
            var (vessel, limit) = Vessels[random.Next(Vessels.Length)];
            var departs = ServiceDay.Today.ToDateTime(new TimeOnly(6, 0), DateTimeKind.Utc)
                .AddMinutes((i % 24 * 40) + random.Next(15));
            var sailing = new Sailing($"{departs:HHmm}-{pier.Name.Replace(' ', '-')}{(i < 24 ? "" : $"-{i / 24}")}",
                pier.Name, vessel, limit, $"{departs:yyyy-MM-ddTHH:mm}:00Z");
            sailings.Add(sailing);

            // Most ferries leave with room to spare; some fill up to the last place, but none beyond it.
            var passengers = Math.Min(limit, (int)(limit * (0.6 + (random.NextDouble() * 0.5))));
            for (var p = 0; p < passengers; p++)
            {
                // They come in a rush, most of them in the last minutes.
                var at = departs.AddSeconds(-30 - (random.NextDouble() * random.NextDouble() * 1200));
                taps.Add(new Tap(Number(ref number, pier), pier.Name, $"card-{random.Next(1, 700):000}", sailing.Id,
                    $"{at:yyyy-MM-ddTHH:mm:ss}Z"));
            }
        }

        // Wrong taps belong to every day: a pier on no map, and a gate whose clock is a day ahead.
        for (var i = 0; i < 6; i++)
        {
            var tap = taps[random.Next(taps.Count)];
            taps.Add(tap with { Number = Number(ref number, Piers[0]), Pier = "Fogbank", Sailing = "0000-Fogbank" });
            tap = taps[random.Next(taps.Count)];
            taps.Add(tap with { Number = Number(ref number, Piers[0]),
                TappedAt = tap.TappedAt.Replace("-14T", "-15T", StringComparison.Ordinal) });
        }
        return new Day(
            Piers, sailings,
            [.. taps.OrderBy(t => t.TappedAt[11..], StringComparer.Ordinal).ThenBy(
            t => t.Number, StringComparer.Ordinal)]);
    }

    private static string Number(ref int number, Pier pier) =>
        $"gate-{Array.IndexOf(Piers, pier) + 1}/{++number:00000}";
}
