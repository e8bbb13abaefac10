using CsCheck;

namespace GentleCourier.Sqlite.Tests;

/// <summary>Laws of which clock a store goes by.</summary>
public sealed class ClockVoteTests
{
    private const long Hour = 3_600_000;
    private static readonly Gen<long> Clock = Gen.OneOf(
        Gen.Const(0L), Gen.Const(Hour), Gen.Const(-Hour), Gen.Long[-3_000, 3_000], Gen.Long[-Hour, Hour]);
    // Right to half a second, or wrong by hours.
    private static readonly Gen<long> PlainClock = Gen.Select(
        Gen.Int[-1, 1], Gen.Long[-500, 500], (hours, off) => hours * Hour + off);

    private static List<RelayClock> Relays(params IEnumerable<long> ahead) =>
        [.. ahead.Select((a, i) => new RelayClock($"{i}", a, HasMoved: false))];

    [Fact]
    public void What_more_than_half_say_wins_whatever_the_others_say() => Gen.Select(
        Clock, Clock.List[0, 6], Gen.Int[0, 3], Gen.Bool, Gen.Int[0, 1]).Sample((right, others, more, knows, agreed) =>
        {
            var known = new AgreedClock(knows ? right : others.FirstOrDefault(), null, (Standing)agreed, null);
            var voices = others.Count + more + 2;
            var relays = Relays([.. others, .. Enumerable.Repeat(right, voices)]);
            Assert.InRange(ClockVote.Of(relays, known)!.Value - right, -ClockVote.Tolerance, ClockVote.Tolerance);
        });

    [Fact]
    public void Nobody_wins_without_more_than_half_and_one_more_voice_for_who_wins_changes_nothing() => Gen.Select(
        PlainClock.List[1, 7], PlainClock, Gen.Int[0, 2]).Sample((clocks, agreed, standing) =>
        {
            var known = new AgreedClock(agreed, null, (Standing)standing, null);
            var found = ClockVote.Of(Relays(clocks), known);
            if (found is not { } winner) return;
            var voices = clocks.Concat(Enumerable.Repeat(agreed, standing)).ToList();
            Assert.True(2 * voices.Count(v => Math.Abs(v - winner) <= 2 * ClockVote.Tolerance) > voices.Count);
            Assert.InRange(
                ClockVote.Of(Relays([.. clocks, winner]), known)!.Value - winner,
                -ClockVote.Tolerance, ClockVote.Tolerance);
        });

    [Theory]
    [InlineData(0L, Standing.NotYet, Hour)]
    [InlineData(0L, Standing.Agreed, null)]
    [InlineData(0L, Standing.ByHand, 0L)]
    [InlineData(Hour, Standing.Agreed, Hour)]
    public void One_relay_alone_is_believed_where_nothing_else_is_known_or_the_same(
        long agreed, object standing, long? expected) =>
        Assert.Equal(expected, ClockVote.Of(Relays(Hour), new(agreed, null, (Standing)standing, null)));

    [Fact]
    public void One_wrong_clock_beside_one_that_agrees_with_the_store_changes_nothing() =>
        Assert.Equal(0, ClockVote.Of(Relays(0, Hour), new(0, null, Standing.Agreed, null)));

    [Fact]
    public void After_a_restart_of_the_host_no_clock_is_believed_that_is_behind_what_was() =>
        Assert.Null(ClockVote.Of(Relays(-Hour), new(Hour, 0, Standing.NotYet, null)));

    [Fact]
    public void The_last_that_held_to_what_was_agreed_takes_the_store_along_where_it_is_seen_being_set()
    {
        var known = new AgreedClock(0, null, Standing.Agreed, null);
        Assert.Equal(Hour, ClockVote.Of([new("1", Hour, HasMoved: true)], known));
        Assert.Null(ClockVote.Of([new("1", Hour, true), new("2", 2 * Hour, false)], known));
        Assert.Equal(0, ClockVote.Of([new("1", Hour, true), new("2", 0, false)], known));
    }
}
