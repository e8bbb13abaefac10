using System.Data.Common;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Publishing;

internal sealed class Outbox(IOutboxPort store, ContractCodec codec) : IOutbox
{
    public async Task<string> AddAsync<TContract>(
        DbTransaction transaction,
        TContract contract,
        string? subject = null,
        string? partitionKey = null,
        string? id = null,
        CancellationToken cancellationToken = default)
        where TContract : notnull
    {
        ArgumentNullException.ThrowIfNull(transaction);
        var encoded = EventDraft.Of(contract, subject, partitionKey, id).Encode(codec);
        await store.AddAsync(transaction, [encoded], cancellationToken).ConfigureAwait(false);
        return encoded.Id;
    }

    public async Task<IReadOnlyList<string>> AddManyAsync(
        DbTransaction transaction, IEnumerable<EventDraft> drafts, CancellationToken cancellationToken = default)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        ArgumentNullException.ThrowIfNull(drafts);
        // All are encoded before the first is written: one that cannot be published leaves nothing behind.
        var encoded = drafts.Select(draft => draft.Encode(codec)).ToList();
        if (encoded.Count > 0) await store.AddAsync(transaction, encoded, cancellationToken).ConfigureAwait(false);
        return encoded.ConvertAll(e => e.Id);
    }

    public async Task<string> AddAndCommitAsync<TContract>(
        DbTransaction transaction,
        TContract contract,
        string? subject = null,
        string? partitionKey = null,
        string? id = null,
        CancellationToken cancellationToken = default)
        where TContract : notnull
    {
        ArgumentNullException.ThrowIfNull(transaction);
        var encoded = EventDraft.Of(contract, subject, partitionKey, id).Encode(codec);
        await store.AddAndCommitAsync(transaction, [encoded], cancellationToken).ConfigureAwait(false);
        return encoded.Id;
    }

    public async Task<IReadOnlyList<string>> AddManyAndCommitAsync(
        DbTransaction transaction, IEnumerable<EventDraft> drafts, CancellationToken cancellationToken = default)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        ArgumentNullException.ThrowIfNull(drafts);
        var encoded = drafts.Select(draft => draft.Encode(codec)).ToList();
        await store.AddAndCommitAsync(transaction, encoded, cancellationToken).ConfigureAwait(false);
        return encoded.ConvertAll(e => e.Id);
    }
}
