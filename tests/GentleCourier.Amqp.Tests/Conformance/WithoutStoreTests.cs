using GentleCourier.Conformance;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Amqp.Tests.Conformance;

/// <summary>Receivers that have no store: what they can have of a broker alone.</summary>
public sealed class WithoutStoreTests
{
    private static Task<IHost> StartAsync(
        Crossing crossing, Quay quay, Log log, TimeSpan delay, string deadLetters, Reports? reports = null) =>
        crossing.StartAsync(
        "watch",
        courier => courier.Receive("taps", queue =>
        {
            (queue.Options.Inbox, queue.Options.MaxAttempts) = (false, delay > TimeSpan.Zero ? 9 : 3);
            (queue.Options.FirstDelay, queue.Options.MaxDelay) = (delay, delay);
            queue.Handle<Tap, TapReceiver>();
        }),
        new() { ["Courier:Store"] = null, ["Courier:Broker"] = quay.Broker + deadLetters },
        services =>
        {
            services.AddSingleton(log);
            if (reports is not null) services.AddSingleton<ILoggerFactory>(reports);
        });

    [Fact]
    public async Task Attempts_and_reasons_travel_in_the_messages()
    {
        var quay = new Quay();
        await using var crossing = new Crossing(quay);
        var log = new Log
        {
            OnTap = (d, _) => d.Data.Number == 1 ? throw new InvalidOperationException("no fare") : Task.CompletedTask,
        };
        await StartAsync(crossing, quay, log, TimeSpan.Zero, $"&dead-letters={quay.Named("{queue}.dead")}");
        await crossing.Broker().PublishAsync([Crossing.TapEvent(0), Crossing.TapEvent(1), Crossing.TapEvent(2)]);
        await Crossing.UntilAsync(
            () => Task.FromResult(quay.Ask("taps") == (0, 0) && quay.Ask("taps.dead").Ready == 1), "it is set aside");
        Assert.Equal([1, 2, 3], log.Taps.Where(t => t.Data.Number == 1).Select(t => t.Attempt));
        Assert.Equal(5, log.Taps.Count);
        var (number, notes) = Assert.Single(await Quay.ReadWithNotesAsync(quay.Named("taps.dead"), 1));
        Assert.Equal((1, 3), (number, notes.Attempt));
        Assert.StartsWith("failed all 3 attempts; the last with InvalidOperationException: no fare", notes.Reason,
            StringComparison.Ordinal);
    }

    /// <summary>
    /// Where the broker counts what failed, so it goes on, whoever was killed; and where it does not, that is said.
    /// </summary>
    [Fact]
    public async Task What_the_broker_has_counted_counts()
    {
        var quay = new JudgedQuay();
        await using var crossing = new Crossing(quay);
        await crossing.Broker().PublishAsync([Crossing.TapEvent(0)]);
        // Somebody fails with it twice, and says so.
        await using (var connection = await Peers.ConnectAsync(Judge.Address))
        {
            var session = await connection.BeginSessionAsync(default);
            var link = await session.AttachReceiverAsync("others", quay.Named("taps"), default);
            for (var i = 0; i < 2; i++)
            {
                link.Grant(1);
                var arrival = Assert.Single(
                    await link.ReceiveAsync(1, int.MaxValue, default).WaitAsync(Crossing.Limit));
                link.Settle([new(arrival.Id, new Performatives.Modified { DeliveryFailed = true })]);
            }
        }
        var log = new Log { OnTap = (_, _) => throw new InvalidOperationException("no fare") };
        using var reports = new Reports();
        await StartAsync(crossing, quay, log, TimeSpan.Zero, $"&dead-letters={quay.Named("{queue}.dead")}", reports);
        await Crossing.UntilAsync(
            () => Task.FromResult(Judge.Count().GetValueOrDefault(quay.Named("taps.dead"), [0, 0])[0] == 1),
            "it is set aside");
        Assert.Equal(3, Assert.Single(log.Taps).Attempt);
        Assert.Contains(reports.Lines, line => line.Contains("has no store beside it", StringComparison.Ordinal));
    }

    [Theory]
    [InlineData(1, "&dead-letters=/queue/{queue}.dead", "set Courier:Receivers:taps:FirstDelay")]
    [InlineData(0, "", "does not keep what is set aside")]
    public async Task What_it_cannot_do_fails_the_start(int seconds, string deadLetters, string problem)
    {
        var quay = new Quay();
        await using var crossing = new Crossing(quay);
        var error = await Assert.ThrowsAsync<CourierException>(
            () => StartAsync(crossing, quay, new Log(), TimeSpan.FromSeconds(seconds), deadLetters));
        Assert.Contains(problem, error.Message, StringComparison.Ordinal);
    }
}
