using GentleCourier.Conformance;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Postgres.Tests;

/// <summary>A worker and a relay behind a network that fails.</summary>
public sealed class NetworkTests
{
    public enum Fault
    {
        Cut,
        Frozen,
        FrozenAndCut,
        Slow,
    }

    // Statements are sent as text each time, so that the proxy can see which they are.
    private static string Through(TcpProxy proxy, string address) =>
        new UriBuilder(address) { Port = proxy.Port, Query = "max auto prepare=0" }.Uri.ToString();

    /// <summary>
    /// Fares writes a row for each tap, without any check of its own; everything it says goes through the proxy.
    /// </summary>
    private static async Task<IHost> StartFaresAsync(Crossing crossing, TcpProxy proxy, Func<int, Task>? during = null)
    {
        var fares = crossing.Build(
            "fares", c => c.Receive("taps", q =>
            {
                q.Options.Lease = TimeSpan.FromSeconds(2);
                (q.Options.FirstDelay, q.Options.MaxDelay) = (
                    TimeSpan.FromMilliseconds(10), TimeSpan.FromMilliseconds(100));
                q.Options.MaxAttempts = 100;
                q.Handle<Tap, TapReceiver>();
            }),
            new() { ["Courier:Store"] = Through(proxy, crossing.StoreAddress("fares")),
                ["Courier:Broker"] = Through(proxy, crossing.BrokerAddress) },
            s => s.AddSingleton(new Log
            {
                OnTap = async (delivery, cancel) =>
                {
                    var transaction = await delivery.BeginAsync(cancel);
                    await transaction.Connection!.ExecuteAsync(
                        "INSERT INTO charge VALUES (@number)", ("@number", delivery.Data.Number));
                    if (during is not null) await during(delivery.Data.Number);
                },
            }));
        await crossing.SharedStore("fares").PrepareAsync(create: true);
        await using (var connection = await crossing.SharedStore(
            "fares").OpenConnectionAsync()) await connection.ExecuteAsync("CREATE TABLE charge (number INTEGER)");
        await fares.StartAsync();
        return fares;
    }

    private static async Task<List<int>> ChargesAsync(Crossing crossing) =>
        await Crossing.NumbersAsync(crossing.SharedStore("fares"), "SELECT number FROM charge ORDER BY 1");

    [Theory]
    [InlineData(Fault.Cut)]
    [InlineData(Fault.Frozen)]
    [InlineData(Fault.FrozenAndCut)]
    [InlineData(Fault.Slow)]
    public async Task A_worker_whose_connections_fail_goes_on_by_itself_and_each_effect_is_there_once(Fault fault)
    {
        await using var crossing = new Crossing(new Databases());
        await crossing.RouteAsync(("test.tap", "taps"));
        using var proxy = new TcpProxy(SharedServer.One.Port);
        await StartFaresAsync(crossing, proxy);
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 300).Select(i => Crossing.TapEvent(i))]);
        await Crossing.UntilAsync(async () => (await ChargesAsync(crossing)).Count >= 20, "it works");

        switch (fault)
        {
            case Fault.Cut:
                proxy.Cut();
                break;
            case Fault.Slow:
                proxy.Slow(TimeSpan.FromMilliseconds(30));
                var before = (await ChargesAsync(crossing)).Count;
                await Crossing.UntilAsync(
                    async () => (await ChargesAsync(crossing)).Count >= before + 5, "it works slowly");
                proxy.Slow(TimeSpan.Zero);
                break;
            default:
                proxy.Freeze();
                // Its leases run out: the server thinks that it is gone.
                await Crossing.UntilAsync(
                    async () => (await crossing.FiguresAsync("taps")).InHand == 0, "nothing is in hand any more");
                if (fault == Fault.FrozenAndCut) proxy.Cut();
                proxy.Thaw();
                break;
        }

        await crossing.SettledAsync();
        Assert.Equal(Enumerable.Range(0, 300), await ChargesAsync(crossing));
    }

    [Fact]
    public async Task A_commit_whose_answer_is_lost_has_its_effect_once()
    {
        await using var crossing = new Crossing(new Databases());
        await crossing.RouteAsync(("test.tap", "taps"));
        using var proxy = new TcpProxy(SharedServer.One.Port);
        // Each of the first ten is cut off between its commit and the answer.
        var cut = new HashSet<int>();
        await StartFaresAsync(crossing, proxy, number =>
        {
            if (number < 10 && cut.Add(number)) proxy.CutAfter("COMMIT");
            return Task.CompletedTask;
        });
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 20).Select(i => Crossing.TapEvent(i))]);
        await crossing.SettledAsync();
        Assert.Equal(10, proxy.FatalCuts);
        Assert.Equal(Enumerable.Range(0, 20), await ChargesAsync(crossing));
        // They were committed: what came again was absorbed.
        Assert.All((await crossing.SharedStore("fares").Inbox.ReadAsync("taps")).Where(e => int.Parse(e.Id) < 10),
            e => Assert.InRange(e.Copies, 2, 3));
    }

    [Fact]
    public async Task A_publisher_whose_commit_may_have_happened_is_told_so()
    {
        await using var crossing = new Crossing(new Databases());
        using var proxy = new TcpProxy(SharedServer.One.Port);
        var harbour = await crossing.StartAsync(
            "harbour",
                settings: new() { ["Courier:Store"] = Through(proxy, crossing.StoreAddress("harbour")),
                ["Courier:Relay:Enabled"] = "false" });
        await using var connection = await harbour.Store().OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        var outbox = harbour.Services.GetRequiredService<IOutbox>();
        await outbox.AddAsync(transaction, new Tap(1));
        proxy.CutAfter("COMMIT");
        var error = await Assert.ThrowsAsync<CourierException>(() => outbox.AddAndCommitAsync(transaction, new Tap(2)));
        Assert.Contains("may have been committed all the same", error.Message, StringComparison.Ordinal);
        Assert.Equal(2, (await crossing.SharedStore("harbour").ReadOutboxFiguresAsync()).Waiting);
    }

    /// <summary>
    /// That a relay waits need not have reached the disk when a server crashes. It says so again, and does not wait for
    /// news that nobody sends.
    /// </summary>
    [Fact]
    public async Task What_a_crash_has_undone_of_a_relays_waiting_is_said_again()
    {
        await using var place = new Databases();
        await using var crossing = new Crossing(place);
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour", settings: new() { ["Courier:Relay:Lease"] = "00:10:00" });
        await using var admin = place.Open("harbour");
        for (var i = 0; i < 3; i++)
        {
            await harbour.PublishAsync(new Tap(i));
            await Crossing.UntilAsync(
                async () => (await crossing.Reports.PeekAsync("taps", 10)).Count == i + 1, "it has been relayed");
            await WaitsAsync();
            await admin.ExecuteAsync("UPDATE courier.relay SET waits = false");
            await admin.ExecuteAsync(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE 'LISTEN%' AND datname = "
                + "current_database()");
            await WaitsAsync();
        }

        Task WaitsAsync() => Crossing.UntilAsync(
            async () => await Crossing.NumbersAsync(harbour.Store(), "SELECT waits::int FROM courier.relay") is [1],
            "the relay says that it waits");
    }

    [Fact]
    public async Task Without_any_notification_events_still_arrive()
    {
        await using var place = new Databases();
        await using var crossing = new Crossing(place);
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour");
        var log = new Log();
        await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()), services: s => s.AddSingleton(log));
        for (var i = 0; i < 3; i++)
        {
            // Whoever listens is disconnected, and what is announced before it listens again is missed.
            foreach (var service in new[] { "harbour", "broker" })
            {
                await using var admin = place.Open(service);
                await admin.ExecuteAsync(
                    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE 'LISTEN%' AND datname = "
                    + "current_database()");
            }
            await harbour.PublishAsync(new Tap(i));
            await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == i + 1), "it has arrived");
        }
    }
}
