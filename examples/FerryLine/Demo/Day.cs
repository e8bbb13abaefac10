using CsvHelper;
using FerryLine.Contracts;

namespace FerryLine.Demo;

[CsvRecord]
internal sealed partial record Pier(string Name, int FareCents);

[CsvRecord]
internal sealed partial record Sailing(string Id, string Pier, string Vessel, int Limit, string Departs);

[CsvRecord]
internal sealed partial record Tap(string Number, string Pier, string Card, string Sailing, string TappedAt);

/// <summary>One day of the ferries, as its files tell it.</summary>
internal sealed record Day(IReadOnlyList<Pier> Piers, IReadOnlyList<Sailing> Sailings, IReadOnlyList<Tap> Taps)
{
    public static Day Read(string folder) => new(
        Read<Pier>(folder, "piers.csv"), Read<Sailing>(folder, "sailings.csv"), Read<Tap>(folder, "taps.csv"));

    private static List<T> Read<T>(string folder, string name)
    {
        using var csv = CsvReader.FromFile(Path.Combine(folder, name));
        return [.. csv.GetRecords<T>()];
    }

    public void Write(string folder)
    {
        Write(folder, "piers.csv", Piers);
        Write(folder, "sailings.csv", Sailings);
        Write(folder, "taps.csv", Taps);
    }

    private static void Write<T>(string folder, string name, IEnumerable<T> records)
    {
        using var csv = CsvWriter.ToFile(Path.Combine(folder, name));
        csv.WriteRecords(records);
    }
}

/// <summary>
/// What the day must come to, reckoned straight from the files: a second opinion that shares no code with the services
/// and none with the library.
/// </summary>
internal sealed record Expectation(
    int TakingsCents, IReadOnlyDictionary<string, int> HeadCounts, IReadOnlyList<string> CrowdedSailings)
{
    private const int DailyCapCents = 900;

    public static Expectation Of(Day day)
    {
        var fares = day.Piers.ToDictionary(p => p.Name, p => p.FareCents);
        var today = ServiceDay.Today.ToString("yyyy-MM-dd");
        var onTime = day.Taps.DistinctBy(t => t.Number)
            .Where(t => t.TappedAt.StartsWith(today, StringComparison.Ordinal)).ToList();
        var takings = onTime.Where(t => fares.ContainsKey(t.Pier)).GroupBy(t => t.Card)
            .Sum(card => Math.Min(DailyCapCents, card.Sum(t => fares[t.Pier])));

        var limits = day.Sailings.ToDictionary(s => s.Id, s => s.Limit);
        var heads = onTime.Where(t => limits.ContainsKey(t.Sailing)).CountBy(t => t.Sailing).ToDictionary();
        var crowded = heads.Where(h => h.Value >= limits[h.Key] * 9 / 10).Select(h => h.Key)
            .Order(StringComparer.Ordinal).ToList();
        return new Expectation(takings, heads, crowded);
    }
}
