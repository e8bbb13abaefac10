using System.Globalization;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Servers;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Postgres.Tests;

/// <summary>A broker's server that comes back with less than it had confirmed.</summary>
public sealed class RestoreTests
{
    private static readonly Dictionary<string, string?> Often =
        new() { ["Courier:Relay:MaxDelay"] = "00:00:00.100" };

    /// <summary>
    /// Events are confirmed that a standby has not got; it takes the place of the server, and the relay's address is
    /// the same as before.
    /// </summary>
    [Fact]
    public async Task A_standby_that_lagged_behind_is_noticed_when_it_is_promoted()
    {
        using var primary = SharedServer.Start();
        using var standby = primary.Standby(Folder());
        await using var crossing = new Crossing(new BrokerElsewhere(primary));
        Environment.SetEnvironmentVariable("PGPASSWORD", SharedServer.One.Password);
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour", settings: Often);
        var store = crossing.SharedStore("harbour");
        await PublishAsync(harbour, store, 0, 5);
        await Crossing.UntilAsync(
            async () => await CopiesAsync(standby, BrokerElsewhere.Name) == 5, "the standby has five");
        standby.Stop(immediately: false);
        await PublishAsync(harbour, store, 5, 10);
        primary.Stop(immediately: true);
        standby.TakeThePlaceOf(primary);

        await harbour.PublishAsync(new Tap(15));
        await SaysThatItHasFallenBehindAsync(store);
        Assert.Equal(1, (await store.ReadOutboxFiguresAsync()).Waiting);
        Assert.Equal(5, await CopiesAsync(standby, BrokerElsewhere.Name));
        await store.AcceptBrokerAsync(asNewStore: false);
        await Crossing.UntilAsync(
            async () => await store.ReadOutboxFiguresAsync() is { Waiting: 0, LastError: null }, "it goes on");
        Assert.Equal(6, await CopiesAsync(standby, BrokerElsewhere.Name));
    }

    /// <summary>
    /// A backup is restored, and another service is the first to publish into it, more than what is missing: that does
    /// not hide it.
    /// </summary>
    [Fact]
    public async Task A_backup_that_another_publisher_has_brought_further_is_noticed_all_the_same()
    {
        await using var crossing = new Crossing(new BackedUp());
        await crossing.RouteAsync(("test.tap", "taps"));
        var (store, others) = (crossing.SharedStore("harbour"), crossing.SharedStore("notices"));
        var harbour = await crossing.StartAsync("harbour", settings: Often);
        var notices = await crossing.StartAsync("notices", settings: Often);
        await PublishAsync(harbour, store, 0, 5);
        await PublishAsync(notices, others, 100, 1);
        await harbour.StopAsync();
        await notices.StopAsync();
        BackedUp.Take(crossing);
        harbour = await crossing.StartAsync("harbour", settings: Often);
        await PublishAsync(harbour, store, 5, 3);
        await harbour.StopAsync();
        BackedUp.Restore(crossing);

        notices = await crossing.StartAsync("notices", settings: Often);
        await PublishAsync(notices, others, 101, 50);
        harbour = await crossing.StartAsync("harbour", settings: Often);
        await SaysThatItHasFallenBehindAsync(store);
        await PublishAsync(notices, others, 200, 5);
        await store.AcceptBrokerAsync(asNewStore: false);
        await PublishAsync(harbour, store, 8, 1);
    }

    private static async Task PublishAsync(IHost service, IStorePort store, int from, int count)
    {
        foreach (var number in Enumerable.Range(from, count))
        {
            await service.PublishAsync(new Tap(number));
            await Crossing.UntilAsync(
                async () => (await store.ReadOutboxFiguresAsync()).Waiting == 0, $"{number} is relayed");
        }
    }

    private static Task SaysThatItHasFallenBehindAsync(IStorePort store) => Crossing.UntilAsync(
        async () => (await store.ReadOutboxFiguresAsync()).LastError?.Contains(
            "it has fallen behind", StringComparison.Ordinal) == true, "it says so");

    private static async Task<long> CopiesAsync(PrivatePostgres server, string database)
    {
        await using var connection = server.Open(database);
        await using var command = connection.CreateCommand();
        command.CommandText = "SELECT count(*) FROM courier.copy";
        return (long)(await command.ExecuteScalarAsync())!;
    }

    private static string Folder() => Directory.CreateTempSubdirectory("courier-standby-").FullName;

    /// <summary>The broker on a server of its own, whose password is not the one of the stores'.</summary>
    private sealed class BrokerElsewhere : Databases
    {
        public const string Name = "broker";
        private readonly string address;

        public BrokerElsewhere(PrivatePostgres server) =>
            address = server.Create(Name).Replace(
                "owner@", $"owner:{Uri.EscapeDataString(server.Password)}@", StringComparison.Ordinal);

        public override string Broker => address;
    }

    /// <summary>A broker's database that is copied, and put in the place of what it has become.</summary>
    private sealed class BackedUp : Databases
    {
        public static void Take(Crossing crossing) => Run(
            $"CREATE DATABASE {NameOf(crossing)}_backup TEMPLATE {NameOf(crossing)}", crossing);

        public static void Restore(Crossing crossing)
        {
            Run($"DROP DATABASE {NameOf(crossing)} WITH (FORCE)", crossing);
            Run($"ALTER DATABASE {NameOf(crossing)}_backup RENAME TO {NameOf(crossing)}", crossing);
        }

        private static string NameOf(Crossing crossing) => crossing.BrokerAddress[(crossing.BrokerAddress
            .LastIndexOf('/') + 1)..];

        private static void Run(string sql, Crossing crossing)
        {
            using var connection = SharedServer.One.Open("postgres");
            using var command = connection.CreateCommand();
            command.CommandText = string.Create(
                CultureInfo.InvariantCulture,
                $"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '{NameOf(crossing)}'");
            command.ExecuteNonQuery();
            command.CommandText = sql;
            command.ExecuteNonQuery();
        }
    }
}
