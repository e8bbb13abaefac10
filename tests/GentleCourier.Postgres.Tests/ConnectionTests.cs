using GentleCourier.Conformance;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Postgres.Tests;

/// <summary>What a host that is cut off leaves behind in the server, and how long others bear with it.</summary>
public sealed class ConnectionTests
{
    /// <summary>A host has died in the middle of handling an event; its connection has not been missed yet.</summary>
    [Fact]
    public async Task An_inbox_row_that_another_transaction_holds_costs_no_attempt()
    {
        await using var crossing = new Crossing(new Databases());
        await crossing.RouteAsync(("test.tap", "taps"));
        var store = crossing.SharedStore("fares");
        await store.PrepareAsync(create: true);
        var dead = await store.BeginHandlingAsync("taps", [new InboxEvent("/t", "1")]);
        Assert.NotNull(dead);
        var (log, reports) = (new Log { OnTap = (d, cancel) => d.BeginAsync(cancel) }, new Reports());
        await crossing.StartAsync(
            "fares",
            c => c.Receive("taps", q =>
            {
                q.Options.MaxAttempts = 1;
                q.Handle<Tap, TapReceiver>();
            }),
            services: s => s.AddSingleton(log).AddSingleton<ILoggerFactory>(reports));
        await crossing.Broker().PublishAsync([Crossing.TapEvent(1)]);
        await Crossing.UntilAsync(
            () => Task.FromResult(reports.Lines.Any(line => line.Contains(
                "TapReceiver could not handle test.tap 1 for a reason around it", StringComparison.Ordinal))),
            "it has been waited for in vain");
        await dead.DisposeAsync();
        await crossing.SettledAsync(deadLetters: 0);
        Assert.All(log.Taps, tap => Assert.Equal(1, tap.Attempt));
    }

    [Fact]
    public async Task The_server_soon_misses_a_client_that_is_gone_and_what_an_address_says_goes_first()
    {
        await using var crossing = new Crossing(new Databases());
        foreach (var (options, idle) in new[]
        {
            ("", "5min"), ("?options=-c idle_in_transaction_session_timeout=0", "0"),
        })
        {
            Assert.True(EngineAddress.TryParse(crossing.StoreAddress("fares") + options, out var address));
            await using var store = crossing.Engine.CreateStore(address, TimeProvider.System);
            await using var connection = await store.OpenConnectionAsync();
            Assert.Equal([idle, "10", "5", "3"], await SettingsAsync(connection,
                "idle_in_transaction_session_timeout", "tcp_keepalives_idle", "tcp_keepalives_interval",
                "tcp_keepalives_count"));
        }
    }

    private static async Task<List<string>> SettingsAsync(
        System.Data.Common.DbConnection connection, params string[] names)
    {
        var found = new List<string>();
        foreach (var name in names)
        {
            await using var command = connection.CreateCommand();
            command.CommandText = $"SELECT current_setting('{name}')";
            found.Add((string)(await command.ExecuteScalarAsync())!);
        }
        return found;
    }
}
