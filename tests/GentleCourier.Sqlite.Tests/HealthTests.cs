using GentleCourier.Conformance;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Diagnostics.HealthChecks;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Sqlite.Tests;

public sealed class HealthTests
{
    private static void Add(IServiceCollection services, Log log) => services.AddSingleton(log).AddHealthChecks()
        .AddCheck<CourierLiveHealthCheck>("live").AddCheck<CourierReadyHealthCheck>("ready");

    private static Task<IHost> StartFaresAsync(Crossing crossing, Log log, TimeSpan? limit = null) =>
        crossing.StartAsync("fares", c => c.Receive("taps", q =>
        {
            q.Options.TimeLimit = limit;
            q.Handle<Tap, TapReceiver>();
        }), services: s => Add(s, log));

    private static async Task<(HealthReportEntry Live, HealthReportEntry Ready)> AskAsync(IHost host)
    {
        var report = await host.Services.GetRequiredService<HealthCheckService>().CheckHealthAsync();
        return (report.Entries["live"], report.Entries["ready"]);
    }

    [Fact]
    public async Task What_works_is_live_and_ready()
    {
        await using var crossing = new Crossing(new Folder());
        var (live, ready) = await AskAsync(await StartFaresAsync(crossing, new Log()));
        Assert.Equal((HealthStatus.Healthy, HealthStatus.Healthy), (live.Status, ready.Status));
    }

    [Fact]
    public async Task Without_its_broker_a_publisher_is_degraded_and_says_why()
    {
        await using var crossing = new Crossing(new Folder());
        var harbour = await crossing.StartAsync(
            "harbour", settings: new() { ["Courier:Broker"] = "sqlite:/no/such/folder/broker.db" },
            services: s => Add(s, new Log()));
        var (live, ready) = await AskAsync(harbour);
        Assert.Equal((HealthStatus.Healthy, HealthStatus.Degraded), (live.Status, ready.Status));
        Assert.Contains("/no/such/folder", ready.Description, StringComparison.Ordinal);
        Assert.Contains("broker-unreachable", ready.Data.Keys);
    }

    [Fact]
    public async Task Without_its_store_it_is_not_ready_and_without_its_queues_it_waits()
    {
        await using var crossing = new Crossing(new Folder());
        var trouble = new TroubledEngine(crossing.Engine);
        crossing.Engine = trouble;
        var isAway = true;
        trouble.Before = call =>
        {
            if (Volatile.Read(ref isAway) && call == "PrepareAsync")
                throw new CourierException("the broker is not up yet") { IsTransient = true };
        };
        var fares = await StartFaresAsync(crossing, new Log());
        var (live, ready) = await AskAsync(fares);
        Assert.Equal(
            (HealthStatus.Healthy, HealthStatus.Unhealthy, "the broker is not up yet"),
            (live.Status, ready.Status, ready.Description));
        Volatile.Write(ref isAway, false);
        await Crossing.UntilAsync(
            async () => (await AskAsync(fares)).Ready.Status == HealthStatus.Healthy, "it has become ready");

        trouble.BeforeStore = _ => throw new CourierException("the disk is gone") { IsTransient = true };
        (live, ready) = await AskAsync(fares);
        trouble.BeforeStore = _ => { };
        Assert.Equal(
            (HealthStatus.Healthy, HealthStatus.Unhealthy, "the disk is gone"),
            (live.Status, ready.Status, ready.Description));
    }

    [Fact]
    public async Task What_is_found_wrong_with_its_own_degrades_it_and_with_others_does_not()
    {
        await using var crossing = new Crossing(new Folder());
        await crossing.RouteAsync(("test.charged", "charges"));
        var harbour = await crossing.StartAsync(
            "harbour", settings: new() { ["Courier:Relay:Enabled"] = "false" }, services: s => Add(s, new Log()));
        Assert.Equal(HealthStatus.Healthy, (await AskAsync(harbour)).Ready.Status);
        await harbour.PublishAsync(new Tap(1));
        await Crossing.UntilAsync(
            async () => (await AskAsync(harbour)).Ready is { Status: HealthStatus.Degraded, Data.Count: 1 },
            "it says that nobody relays");
        // Nobody receives these charges: that is not this one's fault.
        var fares = await StartFaresAsync(crossing, new Log());
        await crossing.Broker().PublishAsync([new("1", "test.charged", null, Crossing.TapEvent(1).Json)]);
        Assert.Equal(HealthStatus.Healthy, (await AskAsync(fares)).Ready.Status);
    }

    [Fact]
    public async Task Where_all_handlers_ignore_their_cancellation_a_restart_would_help()
    {
        await using var crossing = new Crossing(new Folder());
        var ends = new TaskCompletionSource();
        var fares = await StartFaresAsync(
            crossing, new Log { OnTap = (_, _) => ends.Task }, TimeSpan.FromMilliseconds(1));
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1));
        await Crossing.UntilAsync(
            async () => (await AskAsync(fares)).Live is { Status: HealthStatus.Unhealthy, Description: var why }
                && why!.Contains("queue taps", StringComparison.Ordinal), "it says so");
        ends.SetResult();
        await Crossing.UntilAsync(
            async () => (await AskAsync(fares)).Live.Status == HealthStatus.Healthy, "it has ended after all");
    }
}
