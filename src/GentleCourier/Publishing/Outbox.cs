using System.Data.Common;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Publishing;

internal sealed class Outbox(IStorePort store, ContractCodec codec) : IOutbox
{
    public Task<string> AddAsync<TContract>(
        DbTransaction transaction,
        TContract contract,
        EventOptions? options = null,
        CancellationToken cancellationToken = default)
        where TContract : notnull =>
        AddAsync(transaction, EventDraft.Of(contract, options), commits: false,
            cancellationToken);

    public async Task<string> AddAloneAsync<TContract>(
        TContract contract, EventOptions? options = null, CancellationToken cancellationToken = default)
        where TContract : notnull
    {
        Ambient.Refuse(nameof(AddAloneAsync));
        var connection = await store.OpenConnectionAsync(cancellationToken).ConfigureAwait(false);
        await using var opened = connection.ConfigureAwait(false);
        var transaction = await connection.BeginTransactionAsync(cancellationToken).ConfigureAwait(false);
        await using var begun = transaction.ConfigureAwait(false);
        return await AddAndCommitAsync(transaction, contract, options, cancellationToken).ConfigureAwait(false);
    }

    public Task<IReadOnlyList<string>> AddManyAsync(
        DbTransaction transaction, IEnumerable<EventDraft> drafts, CancellationToken cancellationToken = default) =>
        AddAsync(transaction, drafts, commits: false, cancellationToken);

    public Task<string> AddAndCommitAsync<TContract>(
        DbTransaction transaction,
        TContract contract,
        EventOptions? options = null,
        CancellationToken cancellationToken = default)
        where TContract : notnull =>
        AddAsync(transaction, EventDraft.Of(contract, options), commits: true,
            cancellationToken);

    public Task<IReadOnlyList<string>> AddManyAndCommitAsync(
        DbTransaction transaction, IEnumerable<EventDraft> drafts, CancellationToken cancellationToken = default) =>
        AddAsync(transaction, drafts, commits: true, cancellationToken);

    private async Task<string> AddAsync(
        DbTransaction transaction, EventDraft draft, bool commits, CancellationToken cancellationToken)
    {
        ArgumentNullException.ThrowIfNull(transaction);
        var encoded = draft.Create(codec);
        var writing = draft.Options.Due is { } due
            ? WriteAsync(transaction, [], [new(encoded, due)], commits, cancellationToken)
            : WriteAsync(transaction, [encoded], [], commits, cancellationToken);
        await writing.ConfigureAwait(false);
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
            var encoded = draft.Create(codec);
            ids.Add(encoded.Id);
            if (draft.Options.Due is { } due) later.Add(new LaterDraft(encoded, due));
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
