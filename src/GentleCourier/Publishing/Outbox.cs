using System.Data.Common;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Publishing;

internal sealed class Outbox(IStorePort store, ContractCodec codec) : IOutbox
{
    public Task<string> AddAsync<TContract>(
        DbTransaction transaction,
        TContract contract,
        string? subject = null,
        string? partitionKey = null,
        string? id = null,
        Due? due = null,
        CancellationToken cancellationToken = default)
        where TContract : notnull =>
        AddAsync(transaction, EventDraft.Of(contract, subject, partitionKey, id, due: due), commits: false,
            cancellationToken);

    public Task<IReadOnlyList<string>> AddManyAsync(
        DbTransaction transaction, IEnumerable<EventDraft> drafts, CancellationToken cancellationToken = default) =>
        AddAsync(transaction, drafts, commits: false, cancellationToken);

    public Task<string> AddAndCommitAsync<TContract>(
        DbTransaction transaction,
        TContract contract,
        string? subject = null,
        string? partitionKey = null,
        string? id = null,
        Due? due = null,
        CancellationToken cancellationToken = default)
        where TContract : notnull =>
        AddAsync(transaction, EventDraft.Of(contract, subject, partitionKey, id, due: due), commits: true,
            cancellationToken);

    public Task<IReadOnlyList<string>> AddManyAndCommitAsync(
        DbTransaction transaction, IEnumerable<EventDraft> drafts, CancellationToken cancellationToken = default) =>
        AddAsync(transaction, drafts, commits: true, cancellationToken);

    private async Task<string> AddAsync(
        DbTransaction transaction, EventDraft draft, bool commits, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        var encoded = draft.Encode(codec);
        if (draft.Due is { } due) await WriteAsync(transaction, [], [new(encoded, due)], commits, cancellationToken)
            .ConfigureAwait(false);
        else await WriteAsync(transaction, [encoded], [], commits, cancellationToken).ConfigureAwait(false);
        return encoded.Id;
    }

    private async Task<IReadOnlyList<string>> AddAsync(
        DbTransaction transaction, IEnumerable<EventDraft> drafts, bool commits, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        ArgumentNullException.ThrowIfNull(drafts);
        var (ids, now, later) = (new List<string>(), new List<EncodedEvent>(), new List<LaterDraft>());
        // All are encoded before the first is written: one that cannot be published leaves nothing behind.
        foreach (var draft in drafts)
        {
            var encoded = draft.Encode(codec);
            ids.Add(encoded.Id);
            if (draft.Due is { } due) later.Add(new LaterDraft(encoded, due));
            else now.Add(encoded);
        }
        await WriteAsync(transaction, now, later, commits, cancellationToken).ConfigureAwait(false);
        return ids;
    }

    private async Task WriteAsync(DbTransaction transaction, List<EncodedEvent> now,
        List<LaterDraft> later, bool commits, CancellationToken cancellationToken)
    {
        if (later.Count > 0) await store.Later.AddAsync(transaction, later, cancellationToken).ConfigureAwait(false);
        if (commits) await store.AddAndCommitAsync(transaction, now, cancellationToken).ConfigureAwait(false);
        else if (now.Count > 0) await store.AddAsync(transaction, now, cancellationToken).ConfigureAwait(false);
    }
}
