using GentleCourier.Conformance;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Postgres.Tests;

/// <summary>Tables through which many rows pass.</summary>
public sealed class ClearingTests
{
    private const int Count = 21_000;

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Tables_that_have_been_emptied_are_cleared_without_waiting_for_the_server_to_do_it(
        bool inOneDatabase)
    {
        var place = inOneDatabase ? new OneDatabase() : new Databases();
        await using var crossing = new Crossing(place);
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour");
        foreach (var chunk in Enumerable.Range(0, Count).Chunk(3_000))
            await harbour.PublishAsync(chunk.Select(n => new Tap(n)));
        await crossing.StartAsync(
            "fares", c => c.Receive("taps", q =>
            {
                (q.Options.Prefetch, q.Options.Inbox) = (1_000, false);
                q.Handle<Tap, TapReceiver>();
            }),
            services: s => s.AddSingleton(new Log()));
        await crossing.SettledAsync();

        await using var store = await harbour.Store().OpenConnectionAsync();
        await using var broker = place.Open(inOneDatabase ? "all" : "broker");
        await Crossing.UntilAsync(async () => await WasClearedAsync(store, "outbox") && await WasClearedAsync(
            broker, "copy"), "both tables have been cleared");

        // By whoever asked for it, which the server counts apart from what it does by itself.
        static async Task<bool> WasClearedAsync(System.Data.Common.DbConnection connection, string table)
        {
            await using var command = connection.CreateCommand();
            command.CommandText = $"SELECT max(vacuum_count)::int FROM pg_stat_user_tables WHERE relname = '{table}'";
            return await command.ExecuteScalarAsync() is > 0;
        }
    }
}
