using CsvHelper;

namespace FerryLine.Fares;

/// <summary>What a journey from each pier costs.</summary>
internal sealed class PriceList(IReadOnlyDictionary<string, int> cents)
{
    /// <summary>No card pays more than this a day.</summary>
    public const int DailyCapCents = 900;

    /// <summary>Null where there is no such pier.</summary>
    public int? CentsFrom(string pier) => cents.TryGetValue(pier, out var price) ? price : null;

    public static PriceList Read(string folder)
    {
        using var csv = CsvReader.FromFile(Path.Combine(folder, "piers.csv"));
        return new PriceList(csv.GetRecords<Pier>().ToDictionary(p => p.Name, p => p.FareCents));
    }
}

[CsvRecord]
internal sealed partial record Pier(string Name, int FareCents);
