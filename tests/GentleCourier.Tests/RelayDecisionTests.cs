using CsCheck;
using GentleCourier.Engines;
using GentleCourier.Publishing;

namespace GentleCourier.Tests;

public sealed class RelayDecisionTests
{
    private static readonly Gen<(bool IsHeld, int Attempts, string? Key, PublishResult Result)> Answered = Gen.Select(
        Gen.Bool, Gen.Int[0, 5], Gen.Int[0, 2].Select(i => i == 0 ? null : i == 1 ? "a" : "b"),
        Gen.Int[0, 4].Select(i => i == 0 ? PublishResult.Taken : i == 1 ? PublishResult.Deferred("later")
            : i == 2 ? PublishResult.Refused("never") : i == 3 ? PublishResult.Unrouted("no way") : default));

    private static OutboxRow Row(int number, bool isHeld, int attempts, string? key) =>
        new(isHeld ? -number : number, attempts, new EncodedEvent($"{number}", "t", key, default));

    /// <summary>
    /// Every row has one end: it is forgotten, or held, or waits where it is, behind another with its key.
    /// </summary>
    [Fact]
    public void Each_row_is_forgotten_or_held_or_waits_behind_one_with_its_key() =>
        Answered.Array[0, 30].Sample(answered =>
    {
        var batch = answered.Select((a, i) => (Row: Row(i + 1, a.IsHeld, a.Attempts, a.Key), a.Result)).ToList();
        var marks = Marking.Of(
            [.. batch.Select(b => b.Row)], [.. batch.Select(b => b.Result)], attempts =>
                TimeSpan.FromSeconds(attempts));
        Assert.Equal(
            batch.Where(b => b.Result == PublishResult.Taken).Select(b => b.Row.Row),
                marks.Forgotten.Select(r => r.Row));
        Assert.All(marks.Held, h => Assert.NotEmpty(h.Reason));
        Assert.Equal(marks.Keys.Select(k => k.Key).Distinct(), marks.Keys.Select(k => k.Key));
        Assert.Empty(marks.Freed.Intersect(marks.Keys.Select(k => k.Key)));
        // What waits for a route is the oldest of its key, or of none, and its type is tried again.
        Assert.Equal(
            marks.Held.Any(h => h.WaitsFor is not null) ? ["type t"] : [], marks.Obstacles.Select(o => o.Name));
        Assert.All(marks.Held.Where(h => h.WaitsFor is not null), h => Assert.DoesNotContain(
            batch.TakeWhile(b => b.Row.Row != h.Row), b => b.Result.Fate == PublishFate.Deferred
                && b.Row.Event.PartitionKey is { } key
                && key == batch.First(o => o.Row.Row == h.Row).Row.Event.PartitionKey));

        foreach (var key in batch.Select(b => b.Row.Event.PartitionKey).OfType<string>().Distinct())
        {
            var deferred = batch
                .Where(b => b.Row.Event.PartitionKey == key && b.Result.Fate == PublishFate.Deferred).ToList();
            var until = marks.Keys.Where(k => k.Key == key).ToList();
            Assert.Equal(deferred.Count > 0 ? 1 : 0, until.Count);
            // The oldest decides, and it alone has been tried.
            if (deferred is [var oldest, ..])
            {
                Assert.Equal(oldest.Result.IsBlocked ? null : TimeSpan.FromSeconds(oldest.Row.Attempts + 1),
                    until[0].After);
            }
            Assert.Equal(
                deferred.Skip(1).Count(b => !b.Row.IsHeld), marks.Held.Count(h => h.Reason == Marking.Follows
                    && deferred.Skip(1).Any(d => d.Row.Row == h.Row)));
        }
    });

    /// <summary>
    /// Of each row that goes to several addresses everything has one end: the row is forgotten when all have it;
    /// otherwise it makes room for a part for each address that has not, held by address and key.
    /// </summary>
    [Fact]
    public void A_row_that_has_not_come_everywhere_leaves_a_part_for_each_address_that_lacks_it() => Gen.Select(
        Answered, Gen.Int[0, 3].Array[1, 3], (a, fates) => (a.IsHeld, a.Attempts, a.Key, fates)).Array[0, 20].Sample(
        batch =>
        {
            string[] places = ["fares", "deck", "notices"];
            var answers = batch.SelectMany((a, i) => a.fates.Select((fate, place) => new Answer(
                Row(i + 1, a.IsHeld, a.Attempts, a.Key), places[place], fate == 0 ? PublishResult.Taken
                    : fate == 1 ? PublishResult.Deferred("later") : fate == 2 ? PublishResult.Refused("never")
                        : PublishResult.Unreachable("away")))).ToList();
            var marks = Marking.Of(answers, new HashSet<string> { "deck\u001fa" }, n => TimeSpan.FromSeconds(n));
            Assert.Empty(marks.Held);
            Assert.Equal(
                answers.Where(a => a.Result.Fate != PublishFate.Taken).Select(a => (a.Row.Row, a.Address)),
                marks.Parts.Select(p => (p.Row, (string?)p.Address)));
            Assert.Equal(
                answers.GroupBy(a => a.Row.Row).Where(g => g.All(a => a.Result.Fate == PublishFate.Taken))
                    .Select(g => g.Key),
                marks.Forgotten.Select(r => r.Row));
            // What waits for an address is the first of its key there, and all of it is one thing to be tried.
            Assert.All(marks.Parts.Where(p => p.WaitsFor is not null), p => Assert.Equal(
                ($"address {p.Address}", true), (p.WaitsFor, p.Attempts > 0 && p.Key != "deck\u001fa")));
            Assert.Equal(
                marks.Parts.Select(p => p.WaitsFor).OfType<string>().Distinct().Order(),
                marks.Obstacles.Select(o => o.Name).Order());
            // Each address has its own account of a key, and what was held before is not put off by it.
            Assert.All(marks.Parts.Where(p => p.Key is not null && p.After is not null), p => Assert.True(
                marks.Keys.Any(k => k.Key == p.Key) || p.Key == "deck\u001fa"));
            Assert.DoesNotContain(marks.Keys, k => k.Key is "a" or "b" or "deck\u001fa");
            Assert.All(marks.Parts.GroupBy(p => p.Key).Where(g => g.Key is not null), g => Assert.True(
                g.Count(p => p.Attempts > 0 && p.After is not null) <= 1));
        });

    [Fact]
    public void A_rest_is_short_follows_from_how_fast_events_come_and_is_none_where_they_come_singly() =>
        Gen.Select(
            Gen.OneOf(Gen.Double[0, 1_000], Gen.Double[0, 1e6]),
            Gen.OneOf(Gen.Double[0, 300], Gen.Double[0, 1e6])).Sample((rate, ms) =>
        {
            var (rest, slower) = (
                Pace.Rest(rate, TimeSpan.FromMilliseconds(ms)), Pace.Rest(rate, TimeSpan.FromMilliseconds(ms * 2)));
            Assert.InRange(rest, TimeSpan.Zero, Pace.LongestRest);
            if (rate < 49) Assert.Equal(TimeSpan.Zero, rest);
            // Where enough have come meanwhile a slow disk is not waited for again, however slow it is.
            if (rate > 51 && ms > 5 && rate * ms > 8_001)
                Assert.Equal((Pace.LongestRestraint, Pace.LongestRestraint), (rest, slower));
        });

    [Theory]
    [InlineData(40, 0)]
    [InlineData(200, 10)]
    [InlineData(1_000, 7)]
    [InlineData(5_000, 3)]
    public void Under_a_steady_stream_the_rest_becomes_that_of_its_rate(int rate, int milliseconds)
    {
        var (pace, now, rest) = (new Pace(), TimeSpan.FromHours(1), TimeSpan.Zero);
        for (var i = 0; i < 1_000; i++) rest = pace.Rest(1, now += TimeSpan.FromSeconds(1d / rate), Took);
        Assert.InRange(
            rest, TimeSpan.FromMilliseconds(milliseconds - 0.5), TimeSpan.FromMilliseconds(milliseconds + 0.5));
        // After a pause the first of them is not waited for.
        Assert.Equal(TimeSpan.Zero, pace.Rest(1, now + TimeSpan.FromSeconds(1), Took));
    }

    private static readonly TimeSpan Took = TimeSpan.FromMilliseconds(1);
}
