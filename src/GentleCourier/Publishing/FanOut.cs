using GentleCourier.Engines;

namespace GentleCourier.Publishing;

/// <summary>
/// Sends each event to every address that its type is routed to, for a broker that does not know routes itself. What
/// has not come to one of them is held for that one alone. To an address that takes nothing goes for a while only what
/// is due to try it: it is not asked for each batch, which would wait for it.
/// </summary>
/// <param name="broker">The broker.</param>
/// <param name="store">Where the events are.</param>
/// <param name="routes">The addresses of each type.</param>
/// <param name="rest">For how long.</param>
/// <param name="clock">The clock.</param>
internal sealed class FanOut(
    IBroker broker, IRelayPort store, IReadOnlyDictionary<string, IReadOnlyList<string>> routes, TimeSpan rest,
    TimeProvider clock)
{
    // Why, and since when.
    private readonly Dictionary<string, (string Reason, long Since)> unreachable = new(StringComparer.Ordinal);

    /// <summary>Publishes a batch.</summary>
    /// <param name="batch">What was read of the outbox.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>What became of it, and by what keys events were held before.</returns>
    public async Task<(IReadOnlyList<Answer> Answers, IReadOnlySet<string> HeldBefore)> PublishAsync(
        OutboxBatch batch, CancellationToken cancellationToken)
    {
        var answers = batch.Rows.SelectMany(Of).ToList();
        var held = await HeldBeforeAsync(batch, answers, cancellationToken).ConfigureAwait(false);
        var leaving = new List<int>(answers.Count);
        for (var i = 0; i < answers.Count; i++)
        {
            if (answers[i].Result != default) continue;
            if (answers[i] is { Place: { } place, Row.WaitsFor: null } && WhyRests(place) is { } reason)
                answers[i] = answers[i] with { Result = PublishResult.Unreachable(reason) };
            else if (answers[i] is { Address: not null, Key: { } key } && held.Contains(key))
                answers[i] = answers[i] with { Result = PublishResult.Deferred(Marking.Follows) };
            else leaving.Add(i);
        }
        var results = await broker.PublishAsync(
            leaving.ConvertAll(i => answers[i].Row.Event with
            {
                Address = answers[i].Place,
            }),
            cancellationToken).ConfigureAwait(false);
        for (var i = 0; i < leaving.Count; i++)
        {
            answers[leaving[i]] = answers[leaving[i]] with { Result = results[i] };
            if (answers[leaving[i]].Place is { } place) Learn(place, results[i]);
        }
        return (answers, held);
    }

    private string? WhyRests(string place) =>
        unreachable.TryGetValue(place, out var known) && clock.GetElapsedTime(known.Since) < rest ? known.Reason : null;

    private void Learn(string place, PublishResult result)
    {
        if (result.IsBlocked) unreachable[place] = (result.Reason!, clock.GetTimestamp());
        else unreachable.Remove(place);
    }

    /// <summary>What goes where; of what goes nowhere it is said, and of the rest not yet.</summary>
    private IEnumerable<Answer> Of(OutboxRow row) => row.Event.Address is not null ? [new Answer(row, null, default)]
        : routes.TryGetValue(row.Event.Type, out var addresses)
            ? addresses.Select(address => new Answer(row, address, default))
            : [new Answer(row, null, PublishResult.Unrouted(
                $"no queue is routed for type '{row.Event.Type}'; set Courier:Routes:{row.Event.Type} to the queues "
                + $"that get it, since {broker.DisplayName} does not know"))];

    private async Task<IReadOnlySet<string>> HeldBeforeAsync(
        OutboxBatch batch, List<Answer> answers, CancellationToken cancellationToken)
    {
        string[] keys = batch.DueIn is null ? []
            : [.. answers.Where(a => a.Address is not null).Select(a => a.Key).OfType<string>().Distinct()];
        return keys.Length == 0 ? new HashSet<string>()
            : await store.ReadHeldKeysAsync(keys, cancellationToken).ConfigureAwait(false);
    }
}
