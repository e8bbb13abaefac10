using System.Text.Json;
using System.Text.Json.Serialization;
using GentleCourier.ByHand;

namespace GentleCourier.Engines;

/// <summary>How engines keep what happened before an event was sent back: as JSON, with the event.</summary>
[JsonSerializable(typeof(IReadOnlyList<SentBack>))]
[JsonSourceGenerationOptions(JsonSerializerDefaults.Web)]
internal sealed partial class HistoryJson : JsonSerializerContext
{
    private const int Kept = 10;

    /// <summary>The history of an event that is sent back at this moment.</summary>
    public static string Of(LetterReturn back, DateTimeOffset now)
    {
        var letter = back.Letter;
        var latest = new SentBack(
            letter.Id, letter.SetAside, letter.Reason, letter.Failure?.Exception, letter.Failure?.Message,
            letter.Attempts, letter.Worker, now, back.Repaired is not null);
        return JsonSerializer.Serialize(
            [.. letter.History.TakeLast(Kept - 1), latest], Default.IReadOnlyListSentBack);
    }

    /// <summary>None, where there is none or it cannot be read.</summary>
    public static IReadOnlyList<SentBack> Read(string? json)
    {
        try
        {
            return json is null ? [] : JsonSerializer.Deserialize(json, Default.IReadOnlyListSentBack) ?? [];
        }
        catch (JsonException)
        {
            return [];
        }
    }
}
