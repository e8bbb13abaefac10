using System.Data;
using GentleCourier.Conformance;
using GentleCourier.Engines;

namespace GentleCourier.Postgres.Tests;

/// <summary>
/// A transaction that somebody has forgotten elsewhere in the server: whatever is deleted since stays in the tables,
/// and reading must not walk it.
/// </summary>
public sealed class SnapshotTests
{
    private static async Task<long> NumberAsync(Databases place, string sql)
    {
        await using var connection = place.Open("harbour");
        await using var command = connection.CreateCommand();
        command.CommandText = sql;
        return Convert.ToInt64(await command.ExecuteScalarAsync());
    }

    [Fact]
    public async Task While_a_snapshot_is_held_reading_begins_behind_what_is_dead()
    {
        var place = new Databases();
        await using var crossing = new Crossing(place);
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour");
        await using var forgotten = place.Open("harbour");
        await using var snapshot = await forgotten.BeginTransactionAsync(IsolationLevel.RepeatableRead);
        await using (var look = forgotten.CreateCommand())
        {
            look.CommandText = "SELECT count(*) FROM courier.outbox";
            await look.ExecuteScalarAsync();
        }

        const int All = 4_000;
        for (var i = 0; i < All; i += 500) await harbour.PublishAsync(Enumerable.Range(i, 500).Select(n => new Tap(n)));
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).Ready == All, "all are relayed");
        // The dead rows are all still there; the place is behind them, and is kept with the lead.
        await Crossing.UntilAsync(
            async () => await NumberAsync(place, "SELECT place FROM courier.relay") == All, "the place has followed");

        // People are told of it, and whom to ask.
        var figures = await crossing.SharedStore("harbour").ReadOutboxFiguresAsync();
        Assert.True(figures.OldestSnapshot > TimeSpan.Zero);
        Assert.StartsWith($"process {forgotten.ProcessID}, user ", figures.SnapshotHolder, StringComparison.Ordinal);
        await Crossing.UntilAsync(
            async () => (await crossing.SharedStore("harbour").ReadOutboxFiguresAsync()).DeadRows >= All,
            "the dead rows are counted");

        // A new leader goes on there.
        await harbour.StopAsync();
        var next = crossing.Store("harbour");
        var term = await next.LeadAsync("next", TimeSpan.FromMinutes(1));
        Assert.NotNull(term);
        Assert.Equal(All, await NumberAsync(place, "SELECT place FROM courier.relay"));
        await next.LeadAsync("next", TimeSpan.FromMinutes(1));
        Assert.Equal(All, await NumberAsync(place, "SELECT place FROM courier.relay"));
        await next.ResignAsync(term.Value);
    }

    /// <summary>
    /// A row behind the place, as a failover that has set numbers back would bring it: it is found all the same.
    /// </summary>
    [Fact]
    public async Task What_appears_behind_the_place_is_found_when_all_is_looked_at()
    {
        var place = new Databases();
        await using var crossing = new Crossing(place);
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(Enumerable.Range(1, 10).Select(n => new Tap(n)));
        await Crossing.UntilAsync(
            async () => await NumberAsync(place, "SELECT place FROM courier.relay") == 10, "the place has followed");
        var late = Crossing.TapEvent(11);
        await using (var connection = place.Open("harbour"))
        {
            await using var insert = connection.CreateCommand();
            insert.CommandText =
                "INSERT INTO courier.outbox (id, event_id, type, event) VALUES (3, '11', 'test.tap', $1)";
            insert.Parameters.Add(new Npgsql.NpgsqlParameter { Value = late.Json.ToArray() });
            await insert.ExecuteNonQueryAsync();
        }
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).Ready == 11, "it is relayed");
    }
}
