using GentleCourier.ByHand;
using GentleCourier.Engines;

namespace GentleCourier.Companions;

/// <summary>
/// The dead letters of several companions, one companion after another. An id is a companion's name and its own id,
/// <c>fares/12</c>.
/// </summary>
internal sealed class LettersOfCompanions(IReadOnlyList<(string Name, IBroker Broker)> companions) : IDeadLetters
{
    public async Task<IReadOnlyList<DeadLetter>> ReadAsync(
        string? queue, int limit, string? beyond, bool oldestFirst, CancellationToken cancellationToken)
    {
        var (at, inner) = beyond is null ? (0, null) : Find(beyond);
        for (; at >= 0 && at < companions.Count; (at, inner) = (at + 1, null))
        {
            if (!await HasAsync(at, queue, cancellationToken).ConfigureAwait(false)) continue;
            var page = await Of(at).ReadAsync(queue, limit, inner, oldestFirst, cancellationToken)
                .ConfigureAwait(false);
            if (page.Count > 0) return [.. page.Select(letter => letter with { Id = Named(at, letter.Id) })];
        }
        return [];
    }

    public async Task<DeadLetter?> FindAsync(string id, CancellationToken cancellationToken)
    {
        var (at, inner) = Find(id);
        var letter = at < 0 ? null : await Of(at).FindAsync(inner!, cancellationToken).ConfigureAwait(false);
        return letter is null ? null : letter with { Id = id };
    }

    public Task<IReadOnlyList<bool>> SendBackAsync(
        IReadOnlyList<LetterReturn> letters, CancellationToken cancellationToken) => DoAsync(
        letters, letter => letter.Letter.Id,
        (port, some) => port.SendBackAsync(
            [.. some.Select(s => new LetterReturn(s.Item.Letter with { Id = s.Id }, s.Item.Repaired))],
            cancellationToken));

    public Task<IReadOnlyList<bool>> DiscardAsync(IReadOnlyList<string> ids, CancellationToken cancellationToken) =>
        DoAsync(ids, id => id, (port, some) => port.DiscardAsync([.. some.Select(s => s.Id)], cancellationToken));

    private async Task<IReadOnlyList<bool>> DoAsync<T>(
        IReadOnlyList<T> items, Func<T, string> idOf,
        Func<IDeadLetters, List<(T Item, string Id)>, Task<IReadOnlyList<bool>>> run)
    {
        var done = new bool[items.Count];
        foreach (var group in Enumerable.Range(0, items.Count).GroupBy(i => Find(idOf(items[i])).At))
        {
            if (group.Key < 0) continue;
            int[] places = [.. group];
            var results = await run(
                Of(group.Key), [.. places.Select(i => (items[i], Find(idOf(items[i])).Inner!))]).ConfigureAwait(false);
            for (var i = 0; i < places.Length; i++) done[places[i]] = results[i];
        }
        return done;
    }

    /// <summary>A service that does not receive has no companion.</summary>
    private async Task<bool> HasAsync(int at, string? queue, CancellationToken cancellationToken)
    {
        try
        {
            return companions[at].Broker.Reports is { } reports
                && await reports.ReadTopologyAsync(cancellationToken).ConfigureAwait(false) is var topology
                && (queue is null || topology.Queues.Contains(queue));
        }
        catch (CourierException e) when (e.IsAboutTables)
        {
            return false;
        }
    }

    private IDeadLetters Of(int at) => companions[at].Broker.DeadLetters
        ?? throw new CourierException($"{companions[at].Broker.DisplayName} keeps no dead letters");

    private string Named(int at, string id) => $"{companions[at].Name}/{id}";

    /// <summary>Which companion, below 0 where there is none; and the id there.</summary>
    private (int At, string? Inner) Find(string id)
    {
        var cut = id.LastIndexOf('/');
        for (var at = 0; cut > 0 && at < companions.Count; at++)
            if (id.AsSpan(0, cut).SequenceEqual(companions[at].Name)) return (at, id[(cut + 1)..]);
        return (-1, null);
    }
}
