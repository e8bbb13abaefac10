using CsCheck;
using GentleCourier.Engines;
using GentleCourier.Publishing;

namespace GentleCourier.Tests;

public sealed class RelayDecisionTests
{
    private static readonly Gen<(bool IsHeld, int Attempts, string? Key, PublishResult Result)> Answered = Gen.Select(
        Gen.Bool, Gen.Int[0, 5], Gen.Int[0, 2].Select(i => i == 0 ? null : i == 1 ? "a" : "b"),
        Gen.Int[0, 2].Select(i => i == 0 ? PublishResult.Taken
            : i == 1 ? PublishResult.Deferred("later") : PublishResult.Refused("never")));

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
            batch.Where(b => b.Result.Fate == PublishFate.Taken).Select(b => b.Row.Row),
                marks.Forgotten.Select(r => r.Row));
        Assert.Equal(marks.Keys.Select(k => k.Key).Distinct(), marks.Keys.Select(k => k.Key));
        Assert.Empty(marks.Freed.Intersect(marks.Keys.Select(k => k.Key)));

        foreach (var key in batch.Select(b => b.Row.Event.PartitionKey).OfType<string>().Distinct())
        {
            var deferred = batch
                .Where(b => b.Row.Event.PartitionKey == key && b.Result.Fate == PublishFate.Deferred).ToList();
            var until = marks.Keys.Where(k => k.Key == key).ToList();
            Assert.Equal(deferred.Count > 0 ? 1 : 0, until.Count);
            // The oldest decides, and it alone has been tried.
            if (deferred.Count > 0) Assert.Equal(TimeSpan.FromSeconds(deferred[0].Row.Attempts + 1), until[0].After);
            Assert.Equal(
                deferred.Skip(1).Count(b => !b.Row.IsHeld), marks.Held.Count(h => h.Reason == Marking.Follows
                    && deferred.Skip(1).Any(d => d.Row.Row == h.Row)));
        }
    });

    [Fact]
    public void A_rest_never_follows_from_waiting() => Gen.Double[0, 1e6].Sample(ms =>
    {
        var rest = Pace.Rest(TimeSpan.FromMilliseconds(ms));
        Assert.InRange(rest, TimeSpan.Zero, Pace.LongestRest);
        if (ms <= 1) Assert.True(rest + TimeSpan.FromMilliseconds(ms) >= Pace.Gathering - TimeSpan.FromTicks(2));
    });
}
