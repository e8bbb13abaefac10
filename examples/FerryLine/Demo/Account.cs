using System.Text.Json;
using Dapper;
using GentleCourier;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;

namespace FerryLine.Demo;

/// <summary>What the databases say at the end of the day.</summary>
internal sealed record Account(
    IReadOnlyDictionary<string, Ledger> Queues,
    int Events,
    int TakingsCents,
    int? ClosedCents,
    IReadOnlyDictionary<string, int> HeadCounts,
    IReadOnlyList<string> CrowdedSailings,
    IReadOnlyList<DeadLetter> DeadLetters)
{
    private static readonly JsonSerializerOptions Indented = new(JsonSerializerDefaults.Web) { WriteIndented = true };

    /// <summary>Reads the services' databases and the broker, after the services have stopped.</summary>
    /// <param name="files">Where they are.</param>
    /// <param name="boardedBesides">Ids of boarding events that were published without the harbour.</param>
    /// <param name="cancel">Ends the reading.</param>
    public static async Task<Account> ReadAsync(
        DemoFiles files, IReadOnlyList<string> boardedBesides, CancellationToken cancel)
    {
        await using var harbour = files.OpenStore("Harbour");
        await using var fares = files.OpenStore("Fares");
        await using var deckCount = files.OpenStore("DeckCount");
        await using var notices = files.OpenStore("Notices");
        await using var broker = files.OpenBroker();

        // Published is what the business tables hold: each row and its event were committed together.
        List<string> boarded = [.. await TextsAsync(harbour, "SELECT DISTINCT gate_number FROM tap"),
            .. boardedBesides];
        var departed = await TextsAsync(harbour, "SELECT event_id FROM departure");
        var crowded = await TextsAsync(
            deckCount, "SELECT nearly_full_event FROM deck WHERE nearly_full_event IS NOT NULL");

        // Handled is what had an effect: one row for each time that a receiver acted.
        var reminders = await RemindersAsync(harbour, cancel);
        var closings = await Closing.PublishedAsync(
            fares, await TextsAsync(fares, "SELECT event_id FROM closing"), cancel);
        var queues = new Dictionary<string, Ledger>
        {
            ["fares"] = await BalanceAsync(
                "fares", [.. boarded, .. closings], fares,
                    "SELECT event_id FROM charge UNION ALL SELECT event_id FROM closing"),
            ["deck-count"] = await BalanceAsync(
                "deck-count", [.. boarded, .. departed], deckCount,
                    "SELECT event_id FROM boarding UNION ALL SELECT event_id FROM departure"),
            ["notices"] = await BalanceAsync(
                "notices", [.. departed, .. crowded, .. reminders], notices, "SELECT event_id FROM notice"),
        };

        await using var till = await fares.OpenConnectionAsync(cancel);
        await using var decks = await deckCount.OpenConnectionAsync(cancel);
        var heads = await decks.QueryAsync<(string Sailing, long OnBoard)>("SELECT sailing, on_board FROM deck");
        return new Account(
            queues,
            boarded.Count + departed.Count + crowded.Count + reminders.Count + closings.Count,
            await till.ExecuteScalarAsync<int>("SELECT coalesce(sum(cents), 0) FROM charge"),
            await till.ExecuteScalarAsync<int?>("SELECT cents FROM closing ORDER BY closed_at DESC LIMIT 1"),
            heads.ToDictionary(h => h.Sailing, h => (int)h.OnBoard),
            [.. (await TextsAsync(deckCount, "SELECT sailing FROM deck WHERE nearly_full_event IS NOT NULL")).Order(
                StringComparer.Ordinal)],
            await broker.DeadLetters!.ReadAllAsync(null, cancel).ToListAsync(cancel));

        async Task<Ledger> BalanceAsync(string queue, List<string> published, IStorePort store, string effects)
        {
            var inbox = await store.Inbox.ReadAsync(queue, cancel);
            var waiting = await broker.Reports!.PeekAsync(queue, int.MaxValue, cancel);
            var letters = await broker.DeadLetters!.ReadAllAsync(queue, cancel).ToListAsync(cancel);
            return Ledger.Balance(
                published, await TextsAsync(store, effects), waiting.Select(e => CourierEvent.Read(e.Json).Id),
                    letters.Select(d => CourierEvent.Read(d.Json).Id),
                inbox.Sum(e => e.Copies - 1));
        }
    }

    /// <summary>What does not agree with the second opinion, a line each; none if all is well.</summary>
    public IEnumerable<string> DisagreementsWith(Expectation expected)
    {
        foreach (var (queue, ledger) in Queues)
        {
            if (!ledger.Balances)
                yield return $"the ledger of {queue} does not balance: {ledger.Missing.Count} missing, "
                    + $"{ledger.Unexpected.Count} unexpected";
            if (ledger.Waiting > 0) yield return $"{ledger.Waiting} events still wait in {queue}";
        }
        if (TakingsCents != expected.TakingsCents)
            yield return $"the takings are {TakingsCents} cents, and should be {expected.TakingsCents}";
        if (ClosedCents is { } closed && closed != TakingsCents)
            yield return $"the accounts were closed with {closed} cents, and the takings are {TakingsCents}";
        foreach (var sailing in HeadCounts.Keys.Union(expected.HeadCounts.Keys))
        {
            var (counted, due) = (
                HeadCounts.GetValueOrDefault(sailing), expected.HeadCounts.GetValueOrDefault(sailing));
            if (counted != due) yield return $"{counted} people were counted on {sailing}, and {due} went on board";
        }
        if (!CrowdedSailings.SequenceEqual(expected.CrowdedSailings))
            yield return $"nearly full were {string.Join(", ", expected.CrowdedSailings)}, "
                + $"but reported were {string.Join(", ", CrowdedSailings)}";
    }

    /// <summary>Writes the ledger for programs, if a file is named.</summary>
    public Task WriteAsync(FileInfo? file, Expectation expected, CancellationToken cancel) =>
        file is null ? Task.CompletedTask : File.WriteAllTextAsync(file.FullName, ToJson(expected) + "\n", cancel);

    private string ToJson(Expectation expected)
    {
        var sum = Ledger.Sum(Queues);
        return JsonSerializer.Serialize(
            new
            {
                events = Events,
                sum.Published,
                sum.Handled,
                sum.Waiting,
                sum.DeadLetters,
                sum.DuplicatesAbsorbed,
                sum.Missing,
                sum.Unexpected,
                takingsCents = TakingsCents,
                closedCents = ClosedCents,
                expectedTakingsCents = expected.TakingsCents,
                headCounts = HeadCounts.OrderBy(h => h.Key, StringComparer.Ordinal).ToDictionary(),
                expectedHeadCounts = expected.HeadCounts.OrderBy(h => h.Key, StringComparer.Ordinal).ToDictionary(),
                queues = Queues,
            },
            Indented);
    }

    /// <summary>Planned, not cancelled, and not waiting for their time.</summary>
    private static async Task<List<string>> RemindersAsync(IStorePort harbour, CancellationToken cancel)
    {
        var waiting = await harbour.LaterEvents.ReadAsync(new LaterFilter(), 10_000, null, null, cancel);
        return [.. (await TextsAsync(harbour, "SELECT reminder FROM sailing WHERE state = 'planned'"))
            .Except(waiting.Select(e => e.Id))];
    }

    private static async Task<List<string>> TextsAsync(IStorePort store, string sql)
    {
        await using var connection = await store.OpenConnectionAsync();
        return [.. await connection.QueryAsync<string>(sql)];
    }
}
