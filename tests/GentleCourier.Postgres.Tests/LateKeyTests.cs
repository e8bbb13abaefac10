using GentleCourier.Conformance;
using GentleCourier.Engines;

namespace GentleCourier.Postgres.Tests;

/// <summary>Copies in a queue in key order that are committed behind where a worker has come to.</summary>
public sealed class LateKeyTests
{
    private static readonly TimeSpan Lease = TimeSpan.FromMinutes(5);

    /// <summary>
    /// However many have come before it is committed, and whoever else still writes: it is handed over, each key in one
    /// hand; and nothing waits for whoever freezes.
    /// </summary>
    [Theory]
    [InlineData(3, false)]
    [InlineData(3, true)]
    [InlineData(1500, false)]
    public async Task What_is_committed_late_is_handed_over_and_keeps_nobody_waiting(int meanwhile, bool otherWrites)
    {
        await using var place = new Databases();
        await using var crossing = new Crossing(place);
        var broker = crossing.Broker();
        await broker.PrepareAsync(
            new Topology(["taps"], [new Route("test.tap", "taps")]) { InKeyOrder = ["taps"] }, create: true);
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
        await using var other = place.Open("broker");
        await using var writing = await other.BeginTransactionAsync();
        if (otherWrites) await other.ExecuteAsync("CREATE TABLE somebody_elses (number int)");

        await using var late = place.Open("broker");
        await using var transaction = await late.BeginTransactionAsync();
        var json = System.Text.Encoding.UTF8.GetString(Crossing.TapEvent(0).Json.Span);
        await late.ExecuteAsync(
            "INSERT INTO courier.copy (queue, arrived, event, key) SELECT id, now(), "
            + $"convert_to('{json}', 'UTF8'), 'a' FROM courier.queue");
        for (var i = 1; i <= meanwhile; i += 500)
        {
            await broker.PublishAsync([.. Enumerable.Range(i, Math.Min(500, meanwhile - i + 1))
                .Select(n => Crossing.TapEvent(n, n == 1 ? "a" : $"k{n}"))]);
        }
        var held = new Dictionary<int, HandOver>();
        while (held.Count < meanwhile) await TakeAsync();
        await transaction.CommitAsync();

        // Its key is in hand: another's event comes, and it does not.
        await broker.PublishAsync([Crossing.TapEvent(5000, "z")]);
        while (!held.ContainsKey(5000)) await TakeAsync();
        Assert.DoesNotContain(0, held.Keys);
        // Now it is free.
        await link.SettledAsync([new(held[1], Outcome.Accepted)]);
        while (!held.ContainsKey(0)) await TakeAsync();

        async Task TakeAsync()
        {
            foreach (var delivery in await link.ReceiveAsync(100, CancellationToken.None).WaitAsync(Crossing.Limit))
                Assert.True(held.TryAdd(Crossing.NumberOf(delivery.Json), delivery));
        }
    }

    /// <summary>The same where nobody has its key, so that nobody looks for it.</summary>
    [Theory]
    [InlineData(3, false)]
    [InlineData(3, true)]
    [InlineData(1500, false)]
    public async Task What_is_committed_late_with_a_key_of_its_own_is_found(int meanwhile, bool otherWrites)
    {
        await using var place = new Databases();
        await using var crossing = new Crossing(place);
        var broker = crossing.Broker();
        await broker.PrepareAsync(
            new Topology(["taps"], [new Route("test.tap", "taps")]) { InKeyOrder = ["taps"] }, create: true);
        await using var link = await broker.OpenLinkAsync("taps", "w", Lease);
        await using var other = place.Open("broker");
        await using var writing = await other.BeginTransactionAsync();
        if (otherWrites) await other.ExecuteAsync("CREATE TABLE somebody_elses (number int)");
        await using var late = place.Open("broker");
        await using var transaction = await late.BeginTransactionAsync();
        var json = System.Text.Encoding.UTF8.GetString(Crossing.TapEvent(0).Json.Span);
        await late.ExecuteAsync(
            "INSERT INTO courier.copy (queue, arrived, event, key) SELECT id, now(), "
            + $"convert_to('{json}', 'UTF8'), 'late' FROM courier.queue");
        for (var i = 1; i <= meanwhile; i += 500)
        {
            await broker.PublishAsync([.. Enumerable.Range(i, Math.Min(500, meanwhile - i + 1))
                .Select(n => Crossing.TapEvent(n, $"k{n % 40}"))]);
        }
        var taken = new HashSet<int>();
        while (taken.Count < Math.Min(40, meanwhile)) await TakeAsync();
        await transaction.CommitAsync();
        while (!taken.Contains(0)) await TakeAsync();

        async Task TakeAsync() => taken.UnionWith((await link.ReceiveAsync(100, CancellationToken.None)
            .WaitAsync(Crossing.Limit)).Select(d => Crossing.NumberOf(d.Json)));
    }
}
