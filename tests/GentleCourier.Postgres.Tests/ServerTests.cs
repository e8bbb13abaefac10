using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Postgres.Tests;

/// <summary>Servers that go away, refuse, or do not let everybody do everything.</summary>
public sealed class ServerTests
{
    private static IStorePort StoreAt(string address) => EngineAddress.TryParse(address, out var parsed)
        ? new PostgresEngine().CreateStore(parsed, TimeProvider.System)
        : throw new FormatException(address);

    private static async Task<string> ErrorOfAsync(string address)
    {
        await using var store = StoreAt(address);
        var error = (await Assert.ThrowsAsync<CourierException>(() => store.PrepareAsync(create: false))).Message;
        Assert.DoesNotContain('\n', error);
        return error;
    }

    [Fact]
    public async Task What_cannot_be_reached_says_what_was_tried_where_as_whom_and_what_to_check()
    {
        var server = SharedServer.One.Address;
        Assert.Contains("postgres://nobody@127.0.0.1:1/ferry: nothing listens there; check host and port",
            await ErrorOfAsync("postgres://nobody@127.0.0.1:1/ferry"), StringComparison.Ordinal);
        Assert.Contains("there is no such host", await ErrorOfAsync("postgres://nobody@no-such-host.invalid/ferry"),
            StringComparison.Ordinal);
        Assert.Contains("database \"ferry\" does not exist; check the name", await ErrorOfAsync($"{server}/ferry"),
            StringComparison.Ordinal);
        var refused = await ErrorOfAsync(
            server.Replace("owner@", "owner:wrong-one@", StringComparison.Ordinal) + "/postgres");
        Assert.Contains(
            "the server refuses the user 'owner': password authentication failed", refused, StringComparison.Ordinal);
        Assert.DoesNotContain("wrong-one", refused, StringComparison.Ordinal);
        Assert.Contains(
            "without a store of Gentle Courier", await ErrorOfAsync($"{server}/postgres"), StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_role_that_may_not_make_tables_works_with_those_that_are_there()
    {
        await using var place = new Databases();
        await using var crossing = new Crossing(place);
        await crossing.RouteAsync(("test.tap", "taps"));
        await crossing.Store("fares").PrepareAsync(create: true);
        foreach (var service in new[] { "broker", "fares" })
        {
            await using var admin = place.Open(service);
            var role = service == "broker" ? "CREATE ROLE clerk LOGIN PASSWORD 'clerks-word';" : "";
            await admin.ExecuteAsync($"{role} CREATE TABLE charge (number INTEGER); GRANT ALL ON charge TO clerk");
        }
        string AsClerk(string address) => address.Replace("owner@", "clerk:clerks-word@", StringComparison.Ordinal);
        Assert.Contains("the user 'clerk' lacks a right", await ErrorOfAsync(AsClerk(crossing.StoreAddress("fares"))),
            StringComparison.Ordinal);

        foreach (var service in new[] { "broker", "fares" })
        {
            await using var admin = place.Open(service);
            await admin.ExecuteAsync(
                "GRANT USAGE ON SCHEMA courier TO clerk; GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA "
                + "courier TO clerk");
        }
        var log = new Log
        {
            OnTap = async (delivery, cancel) =>
                await (await delivery.BeginAsync(cancel)).Connection!.ExecuteAsync("INSERT INTO charge VALUES (1)"),
        };
        var fares = await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()),
            new()
            {
                ["Courier:Store"] = AsClerk(crossing.StoreAddress("fares")),
                    ["Courier:Broker"] = AsClerk(crossing.BrokerAddress), ["Courier:CreateMissing"] = "true",
            },
            s => s.AddSingleton(log));
        await fares.PublishAsync(new Tap(1));
        await Crossing.UntilAsync(
            async () => await crossing.SharedStore("fares").CountAsync("charge") == 1, "it is handled");
        await fares.StopAsync();
        await using (var admin = place.Open("broker")) await admin.ExecuteAsync("DROP OWNED BY clerk");
        await using (var admin = place.Open("fares")) await admin.ExecuteAsync("DROP OWNED BY clerk; DROP ROLE clerk");
    }

    [Fact]
    public async Task Several_services_may_share_a_database_each_with_a_schema_of_its_own()
    {
        await using var place = new Databases();
        var address = place.Store("shared");
        await using var one = StoreAt($"{address}?schema=one");
        await using var two = StoreAt($"{address}?schema=two");
        await Task.WhenAll(
            Enumerable.Range(0, 6).Select(i => Task.Run(() => (i % 2 == 0 ? one : two).PrepareAsync(create: true))));
        await using (var connection = await one.OpenConnectionAsync())
        {
            await using var transaction = await connection.BeginTransactionAsync();
            await one.AddAsync(transaction, [Crossing.TapEvent(1)]);
            await two.AddAndCommitAsync(transaction, [Crossing.TapEvent(2), Crossing.TapEvent(3)]);
        }
        Assert.Equal(
            (1, 2), ((await one.ReadOutboxFiguresAsync()).Waiting, (await two.ReadOutboxFiguresAsync()).Waiting));
    }

    [Fact]
    public async Task A_server_is_not_believed_to_be_who_it_says_without_a_certificate()
    {
        using var server = SharedServer.Start();
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest("CN=127.0.0.1", key, HashAlgorithmName.SHA256);
        var names = new SubjectAlternativeNameBuilder();
        names.AddIpAddress(System.Net.IPAddress.Loopback);
        request.CertificateExtensions.Add(names.Build());
        request.CertificateExtensions.Add(new X509BasicConstraintsExtension(
            certificateAuthority: true, hasPathLengthConstraint: false, 0, critical: true));
        using var certificate = request.CreateSelfSigned(
            DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(1));
        var authority = Path.Combine(server.Folder, "authority.pem");
        File.WriteAllText(authority, certificate.ExportCertificatePem());
        await using (var admin = server.Open("postgres"))
        {
            // The server writes its own files: they must belong to its user.
            await admin.ExecuteAsync($"""
                CREATE TABLE pem (text text);
                INSERT INTO pem VALUES ('{certificate.ExportCertificatePem()}');
                COPY pem TO PROGRAM 'cat > server.crt' (FORMAT csv, QUOTE '"', FORCE_QUOTE *);
                TRUNCATE pem; INSERT INTO pem VALUES ('{key.ExportPkcs8PrivateKeyPem()}');
                COPY pem TO PROGRAM 'umask 077; tr -d ''"'' > server.key' (FORMAT csv, FORCE_QUOTE *);
                COPY (SELECT 1) TO PROGRAM 'tr -d ''"'' < server.crt > clean.crt && mv clean.crt server.crt';
                """);
        }
        server.Stop(immediately: false);
        server.Start("ssl=on");

        var withPassword = server.Address.Replace(
            "owner@", $"owner:{Uri.EscapeDataString(server.Password)}@", StringComparison.Ordinal);
        var refused = await ErrorOfAsync($"{withPassword}/postgres?sslmode=verify-full");
        Assert.Contains("its certificate was not accepted", refused, StringComparison.Ordinal);
        var missing = await ErrorOfAsync(
            $"{withPassword}/postgres?sslmode=verify-full&root certificate=/no/such/file.pem");
        Assert.Contains("/no/such/file.pem'; check 'root certificate'", missing, StringComparison.Ordinal);
        Assert.Contains("it must be made for the host 'localhost', by an authority", await ErrorOfAsync(
            $"{withPassword.Replace("127.0.0.1", "localhost", StringComparison.Ordinal)}/postgres?sslmode=verify-full"
            + $"&root certificate={Uri.EscapeDataString(authority)}"), StringComparison.Ordinal);
        await using var store = StoreAt(
            $"{withPassword}/postgres?sslmode=verify-full&root certificate={Uri.EscapeDataString(authority)}");
        await store.PrepareAsync(create: true);
        Assert.Equal(0, (await store.ReadOutboxFiguresAsync()).Waiting);
    }

    [Fact]
    public async Task A_server_that_is_killed_and_restarted_under_load_loses_nothing_and_repeats_nothing()
    {
        using var server = SharedServer.Start();
        await using var crossing = new Crossing(new Databases(server));
        string WithPassword(string address) =>
            address.Replace("owner@", $"owner:{Uri.EscapeDataString(server.Password)}@", StringComparison.Ordinal);
        Dictionary<string, string?> At(string service) => new()
        {
            ["Courier:Store"] = WithPassword(crossing.StoreAddress(service)),
                ["Courier:Broker"] = WithPassword(crossing.BrokerAddress),
            ["Courier:Relay:FirstDelay"] = "00:00:00.010", ["Courier:Relay:MaxDelay"] = "00:00:00.200",
        };
        var harbour = await crossing.StartAsync("harbour", settings: At("harbour"));
        var fares = await crossing.StartAsync(
            "fares", c => c.Receive("taps", q =>
            {
                (q.Options.Lease, q.Options.MaxAttempts, q.Options.FirstDelay, q.Options.MaxDelay,
                    q.Options.Parallel) =
                    (TimeSpan.FromSeconds(1), 1000, TimeSpan.FromMilliseconds(10), TimeSpan.FromMilliseconds(200), 2);
                q.Handle<Tap, TapReceiver>();
            }),
            At("fares"),
            s => s.AddSingleton(new Log
            {
                OnTap = async (delivery, cancel) =>
                    await (await delivery.BeginAsync(cancel)).Connection!.ExecuteAsync(
                        "INSERT INTO charge VALUES (@number)", ("@number", delivery.Data.Number)),
            }));
        await using (var connection = await fares.Store().OpenConnectionAsync()) await connection.ExecuteAsync(
            "CREATE TABLE charge (number INTEGER)");
        await using (var connection = await harbour.Store().OpenConnectionAsync()) await connection.ExecuteAsync(
            "CREATE TABLE tap (number INTEGER)");

        using var enough = new CancellationTokenSource();
        var publishing = Enumerable.Range(0, 4).Select(writer => Task.Run(async () =>
        {
            for (var number = writer; !enough.IsCancellationRequested; number += 4)
            {
                try
                {
                    await using var connection = await harbour.Store().OpenConnectionAsync();
                    await using var transaction = await connection.BeginTransactionAsync();
                    await connection.ExecuteAsync("INSERT INTO tap VALUES (@number)", ("@number", number));
                    await harbour.Services.GetRequiredService<IOutbox>()
                        .AddAndCommitAsync(transaction, new Tap(number), new() { Id = $"{number}" });
                }
                catch (Exception e) when (e is CourierException or System.Data.Common.DbException)
                {
                    // What was committed is in the table; what was not is not missed.
                    await Task.Delay(20, CancellationToken.None);
                }
            }
        })).ToArray();

        for (var restart = 0; restart < 4; restart++)
        {
            var before = await PatientlyAsync(() => fares.Store().CountAsync("charge"));
            await Crossing.UntilAsync(
                async () => await PatientlyAsync(() => fares.Store().CountAsync("charge")) >= before + 20, "it works");
            server.Stop(immediately: true);
            server.Start();
        }
        await enough.CancelAsync();
        await Task.WhenAll(publishing).WaitAsync(Crossing.Limit);

        await Crossing.UntilAsync(
            async () => (await PatientlyAsync(() => harbour.Store().ReadOutboxFiguresAsync())).Waiting == 0
                && (await PatientlyAsync(
                    () => fares.Services.GetRequiredService<IBroker>().Reports!.ReadFiguresAsync()))
                    .Queues.Single() is { Ready: 0, InHand: 0, Scheduled: 0 },
            "all is handled");
        var ledger = Ledger.Balance(
            (await Crossing.NumbersAsync(harbour.Store(), "SELECT number FROM tap")).Select(n => $"{n}"),
            (await Crossing.NumbersAsync(fares.Store(), "SELECT number FROM charge")).Select(n => $"{n}"), [], [], 0);
        Assert.True(ledger.Balances,
            $"missing {string.Join(',', ledger.Missing)}, unexpected {string.Join(',', ledger.Unexpected)}");
        Assert.True(ledger.Published > 80);
    }

    [Fact]
    public async Task A_process_that_starts_while_its_server_is_away_works_once_it_is_there()
    {
        using var server = SharedServer.Start();
        await using var crossing = new Crossing(new Databases(server));
        var log = new Log();
        // All is made once, while it is there.
        await (await StartAsync(server.Password)).StopAsync();
        server.Stop(immediately: false);
        var fares = await StartAsync(server.Password);
        server.Start();
        var broker = fares.Services.GetRequiredService<IBroker>();
        await PatientlyAsync(() => broker.PublishAsync([Crossing.TapEvent(1)]));
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 1), "it is handled");

        var error = await Assert.ThrowsAsync<CourierException>(() => StartAsync("wrong"));
        Assert.Contains("the server refuses the user 'owner'", error.Message, StringComparison.Ordinal);

        Task<IHost> StartAsync(string password) => crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()),
            new()
            {
                ["Courier:Store"] = $"{crossing.StoreAddress("fares")}?password={Uri.EscapeDataString(password)}",
                ["Courier:Broker"] = $"{crossing.BrokerAddress}?password={Uri.EscapeDataString(password)}",
            },
            s => s.AddSingleton(log));
    }

    /// <summary>However long they would rest by then, and one says so for all.</summary>
    [Fact]
    public async Task What_rests_while_its_server_is_away_goes_on_when_it_is_back()
    {
        using var server = SharedServer.Start();
        await using var crossing = new Crossing(new Databases(server));
        var (log, said, password) = (
            new Log(), new Reports(), $"?password={Uri.EscapeDataString(server.Password)}");
        var fares = await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()),
            new()
            {
                ["Courier:Store"] = crossing.StoreAddress("fares") + password,
                ["Courier:Broker"] = crossing.BrokerAddress + password,
                ["Courier:Relay:FirstDelay"] = "01:00:00", ["Courier:Relay:MaxDelay"] = "01:00:00",
                ["Courier:Relay:Lease"] = "00:00:03",
            },
            s => s.AddSingleton(log).AddSingleton<ILoggerFactory>(said));
        await fares.PublishAsync(new Tap(1));
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 1), "it works");
        server.Stop(immediately: true);
        await Crossing.UntilAsync(
            () => Task.FromResult(said.Lines.Any(l => l.Contains("in 4 tries", StringComparison.Ordinal))),
            "it has been asked for again and again");
        server.Start();
        await PatientlyAsync(async () =>
        {
            await fares.PublishAsync(new Tap(2));
            return true;
        });
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 2), "it works again");
        Assert.DoesNotContain(said.Lines, l => l.Contains("in a row; next try in", StringComparison.Ordinal));
    }

    /// <summary>Again and again while the server is away.</summary>
    private static async Task<T> PatientlyAsync<T>(Func<Task<T>> read)
    {
        var result = default(T)!;
        await Crossing.UntilAsync(
            async () =>
            {
                try
                {
                    result = await read();
                    return true;
                }
                catch (Exception e) when (e is CourierException or System.Data.Common.DbException)
                {
                    return false;
                }
            },
            "the server answers");
        return result;
    }
}
