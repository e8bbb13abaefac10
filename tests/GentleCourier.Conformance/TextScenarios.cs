using System.Text;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Conformance;

/// <summary>Texts that no database takes as they are, wherever they come from.</summary>
public abstract class TextScenarios<TPlace> where TPlace : Place, new()
{
    private const string Cut = "the card of \ud83d", Ended = "a NUL \0 and more";

    [Theory]
    [InlineData(Cut)]
    [InlineData(Ended)]
    public async Task A_message_that_is_no_text_costs_neither_the_event_nor_the_others_their_turn(string message)
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var log = new Log
        {
            OnTap = (delivery, _) => delivery.Data.Number % 2 == 0 ? Task.CompletedTask
                : throw (delivery.Data.Number % 4 == 1 ? new RejectException(message) : new FormatException(message)),
        };
        await crossing.StartAsync(
            "fares",
            courier => courier.Receive("taps", queue =>
            {
                (queue.Options.MaxAttempts, queue.Options.RetriesAtOnce) = (2, 1);
                queue.Handle<Tap, TapReceiver>();
            }),
            services: services => services.AddSingleton(log));
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 12).Select(i => Crossing.TapEvent(i))]);
        await crossing.SettledAsync(deadLetters: 6);
        foreach (var letter in await crossing.DeadLetters.ReadAllAsync().ToListAsync())
        {
            Assert.StartsWith(message[..5], letter.Failure!.Message, StringComparison.Ordinal);
            Assert.DoesNotContain('\0', letter.Failure.Message + letter.Reason + letter.Failure.Stack);
        }
    }

    /// <summary>As somebody else may have published them.</summary>
    [Fact]
    public async Task Events_that_break_the_rule_are_set_aside_at_once_with_what_is_wrong()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var log = new Log();
        await crossing.StartAsync(
            "fares", courier => courier.Receive("taps", queue => queue.Handle<Tap, TapReceiver>()),
            services: services => services.AddSingleton(log));
        var deep = new string('[', 70) + new string(']', 70);
        string[] events =
        [
            """{"specversion":"1.0","id":"a\u0000b","source":"/t","type":"test.tap","data":{"number":1}}""",
            """{"specversion":"1.0","id":"\ud800","source":"/t","type":"test.tap","data":{"number":1}}""",
            """{"specversion":"1.0","id":"3","source":"/t","type":"test.tap","data":{"number":1e999}}""",
            $$"""{"specversion":"1.0","id":"4","source":"/t","type":"test.tap","data":{{deep}}}""",
            """{"specversion":"1.0","id":"5","source":"/t","type":"test.tap","data":{"number":5}}""",
        ];
        await crossing.Broker().PublishAsync([.. events.Select((json, i) =>
            new EncodedEvent($"{i}", "test.tap", null, Encoding.UTF8.GetBytes(json)))]);
        await crossing.SettledAsync(deadLetters: 4);
        Assert.Equal(5, Assert.Single(log.Taps).Data.Number);
        var letters = await crossing.DeadLetters.ReadAllAsync().ToListAsync();
        Assert.All(letters, l => Assert.Equal(1, l.Attempts));
        foreach (var reason in new[]
            { "'id' holds a control character", "surrogate", "'data.number' is a number larger", "depth" })
            Assert.Contains(letters, l => l.Reason.Contains(reason, StringComparison.Ordinal));
    }
}
