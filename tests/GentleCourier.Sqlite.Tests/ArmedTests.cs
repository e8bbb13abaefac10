using System.Collections.Concurrent;
using GentleCourier.Conformance;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Sqlite.Tests;

public sealed class ArmedTests
{
    [Fact]
    public async Task Hosts_that_run_side_by_side_are_armed_apart()
    {
        await using var crossing = new Crossing(new Folder());
        var (atHarbour, atFares) = (new ConcurrentQueue<string>(), new ConcurrentQueue<string>());
        var harbour = await ArmedAsync(atHarbour, () => crossing.StartAsync("harbour"));
        await ArmedAsync(atFares, () => crossing.StartAsync(
            "fares", courier => courier.Receive("taps", queue => queue.Handle<Tap, TapReceiver>()),
            services: services => services.AddSingleton(new Log())));
        await harbour.PublishAsync(new Tap(1));
        await Crossing.UntilAsync(
            () => Task.FromResult(atFares.Contains(FaultPoint.CommittedNotSettled)), "it is handled");

        Assert.Contains(FaultPoint.PublishedNotMarked, atHarbour);
        Assert.DoesNotContain(FaultPoint.HandedOverNotHandled, atHarbour);
        Assert.Contains(FaultPoint.HandedOverNotHandled, atFares);
        // On the writer's thread of its own file, too.
        Assert.Contains(FaultPoint.CommittedNotConfirmed, atHarbour);
        Assert.DoesNotContain(FaultPoint.PublishedNotMarked, atFares);

        static Task<IHost> ArmedAsync(ConcurrentQueue<string> passed, Func<Task<IHost>> start) => Task.Run(() =>
        {
            FaultPoint.Armed = passed.Enqueue;
            return start();
        });
    }
}
