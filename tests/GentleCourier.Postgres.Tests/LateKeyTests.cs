using GentleCourier.Conformance;
using GentleCourier.Engines;
using Npgsql;

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
        await using var late = await Late.StartAsync(otherWrites, "a");
        await late.PublishAsync(meanwhile, n => n == 1 ? "a" : $"k{n}");
        while (late.Held.Count < meanwhile) await late.TakeAsync();
        await late.CommitAsync();

        // Its key is in hand: another's event comes, and it does not.
        await late.Broker.PublishAsync([Crossing.TapEvent(5000, "z")]);
        while (!late.Held.ContainsKey(5000)) await late.TakeAsync();
        Assert.DoesNotContain(0, late.Held.Keys);
        // Now it is free.
        await late.Link.SettledAsync([new(late.Held[1], Outcome.Accepted)]);
        while (!late.Held.ContainsKey(0)) await late.TakeAsync();
    }

    /// <summary>The same where nobody has its key, so that nobody looks for it.</summary>
    [Theory]
    [InlineData(3, false)]
    [InlineData(3, true)]
    [InlineData(1500, false)]
    public async Task What_is_committed_late_with_a_key_of_its_own_is_found(int meanwhile, bool otherWrites)
    {
        await using var late = await Late.StartAsync(otherWrites, "late");
        await late.PublishAsync(meanwhile, n => $"k{n % 40}");
        while (late.Held.Count < Math.Min(40, meanwhile)) await late.TakeAsync();
        await late.CommitAsync();
        while (!late.Held.ContainsKey(0)) await late.TakeAsync();
    }

    /// <summary>A queue, a link to it, and a transaction that has added event 0 and is not committed.</summary>
    private sealed class Late(Databases place, Crossing crossing, IBroker broker, IReceivingLink link)
        : IAsyncDisposable
    {
        private NpgsqlConnection? adding, other;
        private NpgsqlTransaction? transaction;

        public IBroker Broker => broker;

        public IReceivingLink Link => link;

        public Dictionary<int, HandOver> Held { get; } = [];

        /// <param name="otherWrites">Whether somebody else writes all the time.</param>
        /// <param name="key">The event's.</param>
        public static async Task<Late> StartAsync(bool otherWrites, string key)
        {
            var place = new Databases();
            var crossing = new Crossing(place);
            var broker = crossing.Broker();
            await broker.PrepareAsync(
                new Topology(["taps"], [new Route("test.tap", "taps")]) { InKeyOrder = ["taps"] }, create: true);
            var late = new Late(place, crossing, broker, await broker.OpenLinkAsync("taps", "w", Lease));
            if (otherWrites)
            {
                late.other = place.Open("broker");
                await late.other.ExecuteAsync("BEGIN; CREATE TABLE somebody_elses (number int)");
            }
            late.adding = place.Open("broker");
            late.transaction = await late.adding.BeginTransactionAsync();
            var json = System.Text.Encoding.UTF8.GetString(Crossing.TapEvent(0).Json.Span);
            await late.adding.ExecuteAsync(
                "INSERT INTO courier.copy (queue, arrived, event, key) SELECT id, now(), "
                + $"convert_to('{json}', 'UTF8'), '{key}' FROM courier.queue");
            return late;
        }

        public async Task PublishAsync(int count, Func<int, string> keyOf)
        {
            for (var i = 1; i <= count; i += 500)
            {
                await broker.PublishAsync([.. Enumerable.Range(i, Math.Min(500, count - i + 1))
                    .Select(n => Crossing.TapEvent(n, keyOf(n)))]);
            }
        }

        public Task CommitAsync() => transaction!.CommitAsync();

        public async Task TakeAsync()
        {
            foreach (var delivery in await link.ReceiveAsync(100, CancellationToken.None).WaitAsync(Crossing.Limit))
                Assert.True(Held.TryAdd(Crossing.NumberOf(delivery.Json), delivery));
        }

        public async ValueTask DisposeAsync()
        {
            if (transaction is not null) await transaction.DisposeAsync();
            if (adding is not null) await adding.DisposeAsync();
            if (other is not null) await other.DisposeAsync();
            await link.DisposeAsync();
            await crossing.DisposeAsync();
            await place.DisposeAsync();
        }
    }
}
