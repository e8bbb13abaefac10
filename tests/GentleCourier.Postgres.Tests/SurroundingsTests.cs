using System.Diagnostics;
using System.Text;
using System.Transactions;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Servers;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Diagnostics.HealthChecks;
using Microsoft.Extensions.Logging;
using Npgsql;

namespace GentleCourier.Postgres.Tests;

/// <summary>PostgreSQL as it is in the world: with poolers, defaults, ambient transactions, and namesakes.</summary>
public sealed class SurroundingsTests
{
    private static IStorePort StoreAt(string address) => EngineAddress.TryParse(address, out var parsed)
        ? new PostgresEngine().CreateStore(parsed, TimeProvider.System)
        : throw new FormatException(address);

    private static async Task<string> ErrorOfAsync(Func<Task> action)
    {
        var error = (await Assert.ThrowsAsync<CourierException>(action)).Message;
        Assert.DoesNotContain('\n', error);
        return error;
    }

    [Fact]
    public async Task A_pooler_that_mixes_sessions_is_refused_by_name_with_what_to_do_and_one_that_does_not_is_not()
    {
        await using var place = new Databases();
        var direct = place.Store("fares");
        await using (var store = StoreAt(direct)) await store.PrepareAsync(create: true);
        using var strict = new Pooler("transaction");
        await using (var store = StoreAt(strict.Of(direct)))
            Assert.Contains("a pooler stands between, and takes no settings of a connection",
                await ErrorOfAsync(() => store.PrepareAsync(create: false)), StringComparison.Ordinal);

        // The usual remedy has it swallow them.
        using var lenient = new Pooler("transaction", "ignore_startup_parameters=options,extra_float_digits");
        await using (var store = StoreAt(lenient.Of(direct)))
            Assert.Contains("a pooler stands between that drops the settings",
                await ErrorOfAsync(() => store.PrepareAsync(create: false)), StringComparison.Ordinal);
        await using (var broker = new PostgresEngine().CreateBroker(
            Parse(lenient.Of(place.Broker)), TimeProvider.System))
            Assert.Contains("a pooler stands between that drops the settings",
                await ErrorOfAsync(() => broker.PrepareAsync(Topology.Empty, create: true)), StringComparison.Ordinal);
    }

    [Fact]
    public async Task What_a_server_has_for_defaults_changes_nothing()
    {
        await using var place = new Databases();
        await using (var admin = place.Open("broker"))
            await admin.ExecuteAsync($"""
                ALTER DATABASE {admin.Database} SET default_transaction_isolation = 'serializable';
                ALTER DATABASE {admin.Database} SET default_transaction_read_only = on;
                ALTER DATABASE {admin.Database} SET default_transaction_deferrable = on
                """);
        await using var crossing = new Crossing(place);
        await crossing.RouteAsync(("test.tap", "taps"));
        // Two who write at once would be rolled back by each other, and what only reads would wait.
        await Task.WhenAll(Enumerable.Range(0, 8).Select(async part =>
        {
            var broker = crossing.AnotherBroker();
            for (var i = 0; i < 20; i++) await broker.PublishAsync([Crossing.TapEvent(part * 20 + i)]);
        }));
        Assert.Equal(160, (await crossing.FiguresAsync("taps")).Ready);
    }

    [Fact]
    public async Task Nothing_of_the_librarys_own_is_part_of_a_transaction_that_surrounds_the_call()
    {
        await using var place = new Databases();
        await using var crossing = new Crossing(place);
        await crossing.RouteAsync(("test.tap", "taps"));
        var store = crossing.Store("fares");
        using (new TransactionScope(TransactionScopeAsyncFlowOption.Enabled))
        {
            await store.PrepareAsync(create: true);
            await crossing.AnotherBroker().PublishAsync([Crossing.TapEvent(1)]);
            // It is not completed, and would roll back what was enlisted.
        }
        Assert.Equal(1, (await crossing.FiguresAsync("taps")).Ready);
        Assert.Equal(0, (await store.ReadOutboxFiguresAsync()).Waiting);
    }

    /// <summary>Another server's database of the same name: what is added there is relayed by nobody.</summary>
    [Fact]
    public async Task An_event_is_not_added_to_a_namesake_on_another_server_whichever_way()
    {
        using var other = SharedServer.Start();
        await using var place = new Databases();
        var address = place.Store("fares");
        await using var store = StoreAt(address);
        await store.PrepareAsync(create: true);
        var name = new Uri(address).AbsolutePath[1..];
        other.Create(name);
        await using var connection = other.Open(name);
        await using (var theirs = StoreAt($"{other.Address}/{name}".Replace(
            "owner@", $"owner:{Uri.EscapeDataString(other.Password)}@", StringComparison.Ordinal)))
            await theirs.PrepareAsync(create: true);
        foreach (var add in new Func<System.Data.Common.DbTransaction, Task>[]
        {
            t => store.AddAsync(t, [Crossing.TapEvent(1)]), t => store.AddAndCommitAsync(t, [Crossing.TapEvent(1)]),
        })
        {
            await using var transaction = await connection.BeginTransactionAsync();
            Assert.Contains("another one of that name", await ErrorOfAsync(() => add(transaction)),
                StringComparison.Ordinal);
        }
    }

    /// <summary>Prepared with other databases, and committed when all are: there may be a restart in between.</summary>
    [Fact]
    public async Task A_transaction_with_events_may_be_prepared_and_committed_later_where_the_address_says_so()
    {
        using var server = new PrivatePostgres(
            Directory.CreateTempSubdirectory("courier-prepared-").FullName, "max_prepared_transactions=4", "fsync=off");
        await using var place = new PreparingDatabases(server);
        await using var crossing = new Crossing(place);
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(new Tap(1));
        await using (var looking = place.Open("harbour"))
        {
            await using var idles = new NpgsqlCommand(
                "SELECT waits AND NOT EXISTS (SELECT FROM courier.outbox) FROM courier.relay", looking);
            await Crossing.UntilAsync(
                async () => await idles.ExecuteScalarAsync() is true, "the relay waits to be told");
        }
        foreach (var (name, tap) in new[] { ("kept", 2), ("dropped", 3) })
        {
            await using var connection = (NpgsqlConnection)await harbour.Store().OpenConnectionAsync();
            await using var transaction = await connection.BeginTransactionAsync();
            await harbour.Store().AddAsync(transaction, [Crossing.TapEvent(tap)]);
            await connection.ExecuteAsync($"PREPARE TRANSACTION '{name}'");
        }
        server.Stop(immediately: true);
        server.Start();
        NpgsqlConnection.ClearAllPools();
        await using (var later = place.Open("harbour"))
        {
            await later.ExecuteAsync("COMMIT PREPARED 'kept'");
            await later.ExecuteAsync("ROLLBACK PREPARED 'dropped'");
        }
        var found = new SortedSet<int>();
        await Crossing.UntilAsync(
            async () =>
            {
                try
                {
                    // A crash undoes marks of the relay: what was relayed just before may come twice.
                    found = [.. (await crossing.Reports.PeekAsync("taps", 9)).Select(e => Crossing.NumberOf(e.Json))];
                    if (found.Contains(2) && !found.Contains(4)) await harbour.PublishAsync(new Tap(4));
                    return found.Contains(2) && found.Contains(4);
                }
                catch (Exception e) when (e is CourierException or NpgsqlException)
                {
                    // A connection of before.
                    return false;
                }
            },
            "what was prepared is there, and what came later");
        Assert.Equal([1, 2, 4], found);
    }

    private sealed class PreparingDatabases(PrivatePostgres server) : Databases(server)
    {
        private readonly string owner = $"owner:{Uri.EscapeDataString(server.Password)}@";

        public override string Broker => base.Broker.Replace("owner@", owner, StringComparison.Ordinal);

        public override string Store(string service) =>
            base.Store(service).Replace("owner@", owner, StringComparison.Ordinal) + "?two-phase=true";
    }

    [Fact]
    public async Task Each_error_of_a_connection_says_what_it_is()
    {
        await using var place = new Databases();
        var address = place.Store("fares");
        await using (var store = StoreAt($"{address}?sslmode=require"))
            Assert.Contains("the server takes no encrypted connections; have it set ssl = on",
                await ErrorOfAsync(() => store.PrepareAsync(create: true)), StringComparison.Ordinal);
        await using var known = StoreAt(address);
        await known.PrepareAsync(create: true);
        await using var connection = (NpgsqlConnection)await known.OpenConnectionAsync();
        await connection.ExecuteAsync("SET default_transaction_read_only = on");
        await using var transaction = await connection.BeginTransactionAsync();
        Assert.Contains("default_transaction_read_only is on",
            await ErrorOfAsync(() => known.AddAsync(transaction, [Crossing.TapEvent(1)])), StringComparison.Ordinal);
    }

    /// <summary>An index takes no key of ten thousand characters: a row that no rule has kept out.</summary>
    [Fact]
    public async Task An_event_that_the_server_cannot_hold_is_refused_alone_and_keeps_nobody()
    {
        await using var place = new Databases();
        await using var crossing = new Crossing(place);
        await crossing.Broker().PrepareAsync(
            new Topology(["taps"], [new("test.tap", "taps")]) { InKeyOrder = ["taps"] }, create: true);
        var harbour = await crossing.StartAsync("harbour");
        var random = new Random(614);
        var key = string.Concat(Enumerable.Range(0, 10_000).Select(_ => (char)random.Next('a', 'z')));
        await using (var connection = await harbour.Store().OpenConnectionAsync())
        await using (var transaction = await connection.BeginTransactionAsync())
        {
            await harbour.Store().AddAsync(transaction, [.. Enumerable.Range(0, 20)
                .Select(i => i == 7 ? Crossing.TapEvent(i) with { PartitionKey = key } : Crossing.TapEvent(i, "a"))]);
            await transaction.CommitAsync();
        }
        await Crossing.UntilAsync(
            async () => (await crossing.FiguresAsync("taps")).Ready == 19, "the others are there");
        await Crossing.UntilAsync(
            async () => await harbour.Store().ReadOutboxFiguresAsync() is { Waiting: 0, Refused: 1 },
            "it is refused");
        Assert.Equal(Enumerable.Range(0, 20).Where(i => i != 7),
            (await crossing.Reports.PeekAsync("taps", 50)).Select(e => Crossing.NumberOf(e.Json)));
    }

    /// <summary>Three hours back: what was leased before seems to be so for three hours more.</summary>
    [Fact]
    public async Task Leases_and_the_lead_of_relays_outlast_a_clock_that_was_set_back_by_an_hour_at_the_most()
    {
        await using var place = new Databases();
        await using var crossing = new Crossing(place);
        await crossing.RouteAsync(("test.tap", "taps"));
        await crossing.Broker().PublishAsync([Crossing.TapEvent(1)]);
        var store = crossing.SharedStore("fares");
        await store.PrepareAsync(create: true);
        await using (var killed = await crossing.AnotherBroker().OpenLinkAsync("taps", "w", TimeSpan.FromSeconds(30)))
            Assert.Single(await killed.ReceiveAsync(1, CancellationToken.None));
        await store.LeadAsync("killed", TimeSpan.FromSeconds(5));
        await using (var admin = place.Open("broker"))
            await admin.ExecuteAsync("""
                UPDATE courier.copy SET until = until + interval '3 hours';
                UPDATE courier.link SET until = until + interval '3 hours'
                """);
        await using (var admin = place.Open("fares"))
            await admin.ExecuteAsync("UPDATE courier.relay SET until = until + interval '3 hours'");
        await using var link = await crossing.AnotherBroker().OpenLinkAsync("taps", "v", TimeSpan.FromSeconds(30));
        Assert.Single(await link.ReceiveAsync(1, CancellationToken.None).WaitAsync(Crossing.Limit));
        Assert.NotNull(await store.LeadAsync("another", TimeSpan.FromSeconds(5)));
    }

    private static EngineAddress Parse(string address) => EngineAddress.TryParse(address, out var parsed) ? parsed
        : throw new FormatException(address);

    /// <summary>A real pooler before the shared server.</summary>
    private sealed class Pooler : IDisposable
    {
        private readonly string folder = Directory.CreateTempSubdirectory("courier-pooler-").FullName;
        private readonly string address;

        public Pooler(string mode, params string[] settings) =>
            address = Run(["start", folder, SharedServer.One.Folder, mode, .. settings]).Trim();

        public string Of(string direct) =>
            direct.Replace(SharedServer.One.Address, address, StringComparison.Ordinal);

        public void Dispose()
        {
            Run(["stop", folder]);
            Directory.Delete(folder, recursive: true);
        }

        private static string Run(string[] arguments)
        {
            var root = AppContext.BaseDirectory;
            while (!File.Exists(Path.Combine(root, "eng", "pooler.sh"))) root = Path.GetDirectoryName(root)!;
            var output = Path.GetTempFileName();
            using var process = Process.Start("bash", ["-c", "exec \"$@\" >" + output + " 2>&1 </dev/null", "-",
                Path.Combine(root, "eng", "pooler.sh"), .. arguments]);
            Assert.True(process.WaitForExit(TimeSpan.FromMinutes(3)), "eng/pooler.sh does not end");
            var said = File.ReadAllText(output, Encoding.UTF8);
            File.Delete(output);
            return process.ExitCode == 0 ? said : throw new InvalidOperationException(said);
        }
    }

    [Fact]
    public async Task A_connection_that_is_lost_while_the_services_tables_are_made_fails_no_start()
    {
        await using var crossing = new Crossing(new Databases());
        var tries = 0;
        var harbour = await crossing.StartAsync("harbour", c => c.PrepareStore(async (store, cancel) =>
        {
            await using var connection = await store.OpenConnectionAsync(cancel);
            if (++tries < 3) await connection.ExecuteAsync("SELECT pg_terminate_backend(pg_backend_pid())");
            await connection.ExecuteAsync("CREATE TABLE IF NOT EXISTS boarded (tap int)");
        }));
        await Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()).Relay is not null, "it is ready, and relays");
        Assert.True(await harbour.Store().HasTableAsync("boarded"));
        // What somebody has to mend fails the start, with the driver's own words.
        await Assert.ThrowsAsync<PostgresException>(() => crossing.StartAsync("fares", c => c.PrepareStore(
            async (store, cancel) =>
            {
                await using var connection = await store.OpenConnectionAsync(cancel);
                await connection.ExecuteAsync("CREAT TABLE");
            })));
    }

    [Fact]
    public async Task A_publisher_whose_role_may_make_nothing_waits_for_the_brokers_tables_and_says_so_once()
    {
        var place = new Databases();
        await using var crossing = new Crossing(place);
        using var reports = new Reports();
        var role = $"gate_{Guid.NewGuid():N}";
        await using var admin = place.Open("broker");
        await admin.ExecuteAsync($"CREATE ROLE {role} LOGIN PASSWORD 'gate'");
        try
        {
            var harbour = await crossing.StartAsync("harbour", settings: new()
            {
                ["Courier:Broker"] = place.Broker.Replace("owner@", $"{role}:gate@", StringComparison.Ordinal),
            }, services: s => s.AddSingleton<ILoggerFactory>(reports));
            await Crossing.UntilAsync(() => Task.FromResult(reports.Lines.Any(l => l.Contains(
                "until the broker's tables are there: cannot make the tables of the broker in",
                StringComparison.Ordinal))), "it says so");
            var ready = await harbour.Services.GetRequiredService<CourierReadyHealthCheck>().CheckHealthAsync(null!);
            Assert.Equal(HealthStatus.Healthy, ready.Status);
            Assert.Contains("cannot make the tables", ready.Description, StringComparison.Ordinal);

            await crossing.RouteAsync(("test.tap", "taps"));
            await admin.ExecuteAsync($"GRANT USAGE ON SCHEMA courier TO {role}; GRANT SELECT, INSERT, UPDATE, DELETE "
                + $"ON ALL TABLES IN SCHEMA courier TO {role}");
            await harbour.PublishAsync(new Tap(1));
            await Crossing.UntilAsync(
                async () => await crossing.FiguresAsync("taps") is { Ready: 1 }, "the tap has been relayed");
        }
        finally
        {
            await admin.ExecuteAsync($"DROP OWNED BY {role}");
            NpgsqlConnection.ClearAllPools();
        }
    }
}
