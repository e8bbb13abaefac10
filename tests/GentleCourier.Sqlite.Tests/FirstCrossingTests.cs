using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Sqlite.Tests;

public sealed class FirstCrossingTests
{
    [Fact]
    public async Task An_event_committed_in_one_service_is_handled_in_another()
    {
        await using var crossing = new Crossing();
        var log = new Log();
        await crossing.StartAsync("fares", c => c.Receive("fares", q => q.Handle<Tap, TapReceiver>()), services: s => s.AddSingleton(log));
        var harbour = await crossing.StartAsync("harbour");

        await harbour.PublishAsync(new Tap(1));

        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 1), "the tap is handled");
        Assert.Equal(new Tap(1), log.Taps.Single().Data);
    }
}
