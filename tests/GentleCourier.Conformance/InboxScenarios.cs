using GentleCourier.Engines;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

/// <summary>What an inbox tells apart, and what it can still say of it.</summary>
public abstract class InboxScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly TimeSpan Hour = TimeSpan.FromHours(1);
    private static readonly Chore Inbox = new(ChoreKind.Inbox, null, Hour);

    /// <summary>
    /// Ids that look alike to people, from sources that do, in two queues: each alone and all in batches. Only the very
    /// same is the same, and each can be read again.
    /// </summary>
    [Theory]
    [InlineData(1)]
    [InlineData(7)]
    public async Task Ids_of_every_kind_are_told_apart_and_read_again(int together)
    {
        await using var crossing = new Crossing(new TPlace());
        var store = crossing.Store("fares");
        await store.PrepareAsync(create: true);
        const string uuid = "0198c0f4-abcd-7222-8333-444455556666";
        string[] ids =
        [
            uuid, uuid.ToUpperInvariant(), $"{{{uuid}}}", uuid.Replace("-", ""), $"{uuid} ", "0", "00", "", "é",
            "e\u0301", "00000000-0000-0000-0000-000000000000", "gate-7/0001", "gate-7/0001'; --", "=1", " 1",
            new string('x', 2_000),
        ];
        string[] sources = ["/t", "/T", "/t ", "", "/ü=x y"];
        InboxEvent[] events = [.. sources.SelectMany(source => ids.Select((id, i) => new InboxEvent(source, id, i)))];
        foreach (var queue in new[] { "taps", "fares" })
            foreach (var part in events.Chunk(together)) await HandleAsync(store, queue, part);
        foreach (var part in events.Chunk(together))
            Assert.Null(await store.BeginHandlingAsync("taps", part));
        var known = await store.LookIntoInboxAsync(
            "taps", [.. events.Select(e => new EventKey(e.Source, e.Id)), new("/t", "1"), new("/x", uuid)]);
        Assert.Equal([.. events.Select(_ => true), false, false], known);
        Assert.Equal(
            events.Select(e => $"{e.Source}|{e.Id}").Order(StringComparer.Ordinal),
            (await store.Inbox.ReadAsync("fares")).Select(e => $"{e.Source}|{e.Id}").Order(StringComparer.Ordinal));
    }

    [Fact]
    public async Task A_batch_that_is_handled_in_part_keeps_only_that_whatever_its_ids_are()
    {
        await using var crossing = new Crossing(new TPlace());
        var store = crossing.Store("fares");
        await store.PrepareAsync(create: true);
        var uuid = Guid.CreateVersion7().ToString();
        InboxEvent[] events = [new("/t", uuid), new("/t", "1"), new("/t", uuid.ToUpperInvariant()), new("/t", "2")];
        await using (var handling = await store.BeginHandlingAsync("taps", events))
            await handling!.CommitAsync([new("/t", uuid), new("/t", "2")]);
        Assert.Equal(
            [false, true, true, false],
            await store.LookIntoInboxAsync("taps", [.. events.Select(e => new EventKey(e.Source, e.Id))]));
    }

    /// <summary>
    /// A tool that only looks may have no right to write; and a handling that is undone has named nothing for good.
    /// </summary>
    [Fact]
    public async Task Only_who_handles_writes_names_and_then_none_is_missing()
    {
        await using var crossing = new Crossing(new TPlace());
        var store = crossing.Store("fares");
        await store.PrepareAsync(create: true);
        InboxEvent[] events = [.. Enumerable.Range(0, 300).Select(i => new InboxEvent($"/gates/{i}", "1"))];
        EventKey[] keys = [.. events.Select(e => new EventKey(e.Source, e.Id))];
        Assert.DoesNotContain(true, await store.LookIntoInboxAsync("taps", keys));
        Assert.Equal(0, await NamesAsync(store));
        Assert.DoesNotContain(true, await store.LookIntoInboxAsync("taps", keys, willHandle: true));
        await using (await store.BeginHandlingAsync("taps", events)) { }
        Assert.DoesNotContain(true, await store.LookIntoInboxAsync("taps", keys, willHandle: true));
        foreach (var @event in events) await HandleAsync(store, "taps", [@event]);
        Assert.Equal(300, await NamesAsync(store));
        Assert.Equal(
            events.Select(e => e.Source).Order(StringComparer.Ordinal),
            (await store.Inbox.ReadAsync("taps")).Select(e => e.Source).Order(StringComparer.Ordinal));
    }

    /// <summary>
    /// Names of sources go when nothing bears them and nobody uses them; one that comes again has its name again, and a
    /// store that lost them (restored from before) has them again within an hour.
    /// </summary>
    [Fact]
    public async Task Names_that_nothing_bears_are_forgotten_and_come_again()
    {
        await using var crossing = new Crossing(new TPlace());
        var clock = new FakeTimeProvider(DateTimeOffset.Parse("2031-06-14T06:00:00Z"));
        var store = crossing.Store("fares", clock);
        await store.PrepareAsync(create: true);
        // More than a step of them.
        await HandleAsync(
            store, "taps", [.. Enumerable.Range(0, 2_500).Select(i => new InboxEvent($"/gates/{i}", "1"))]);
        Assert.Equal(2_500, await NamesAsync(store));
        clock.Advance(2 * Hour);
        await HandleAsync(store, "taps", [new("/gates/7", "2")]);
        await DoRoundAsync(store);
        // They may still be in use.
        Assert.Equal(2_500, await NamesAsync(store));
        clock.Advance(2 * Hour);
        await HandleAsync(store, "taps", [new("/gates/8", "3")]);
        await DoRoundAsync(store);
        Assert.Equal(2, await NamesAsync(store));
        Assert.Equal(["/gates/8"], (await store.Inbox.ReadAsync("taps")).Select(e => e.Source));

        await using (var connection = await store.OpenConnectionAsync())
            await connection.ExecuteAsync($"DELETE FROM {Table(store)}");
        clock.Advance(Hour);
        await HandleAsync(store, "taps", [new("/gates/8", "4")]);
        Assert.Equal(["3", "4"], (await store.Inbox.ReadAsync("taps")).Select(e => e.Id).Order());
    }

    private static string Table(IStorePort store) => store.OutboxTable.Replace("outbox", "inbox_source");

    private static async Task<long> NamesAsync(IStorePort store)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var command = connection.CreateCommand();
        command.CommandText = $"SELECT count(*) FROM {Table(store)}";
        return (long)(await command.ExecuteScalarAsync())!;
    }

    private static async Task HandleAsync(IStorePort store, string queue, InboxEvent[] events)
    {
        await using var handling = await store.BeginHandlingAsync(queue, events);
        await handling!.CommitAsync([]);
    }

    private static async Task DoRoundAsync(IStorePort store)
    {
        string? from = null;
        do
        {
            from = (await ((IHousekeeping)store).DoAsync(Inbox, from)).Next;
        }
        while (from is not null);
    }
}
