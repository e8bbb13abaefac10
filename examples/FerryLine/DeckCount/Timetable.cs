using CsvHelper;

namespace FerryLine.DeckCount;

/// <summary>How many people each sailing's vessel may carry.</summary>
internal sealed class Timetable(IReadOnlyDictionary<string, int> limits)
{
    /// <summary>Null where there is no such sailing.</summary>
    public int? LimitOf(string sailing) => limits.TryGetValue(sailing, out var limit) ? limit : null;

    public static Timetable Read(string folder)
    {
        using var csv = CsvReader.FromFile(Path.Combine(folder, "sailings.csv"));
        return new Timetable(csv.GetRecords<Sailing>().ToDictionary(s => s.Id, s => s.Limit));
    }
}

[CsvRecord]
internal sealed partial record Sailing(string Id, string Pier, string Vessel, int Limit, string Departs);
