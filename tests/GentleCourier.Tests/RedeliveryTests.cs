using CsCheck;
using GentleCourier.Receiving.Handling;

namespace GentleCourier.Tests;

public sealed class RedeliveryTests
{
    private static readonly Gen<ReceiverOptions> AnyPolicy = Gen.Select(
        Gen.Int[1, 20], Gen.Int[0, 10], Gen.Int[0, 5_000], Gen.Int[0, 600_000])
        .Select((attempts, immediate, first, more) => new ReceiverOptions
        {
            MaxAttempts = attempts,
            RetriesAtOnce = immediate,
            FirstDelay = TimeSpan.FromMilliseconds(first),
            MaxDelay = TimeSpan.FromMilliseconds(first + more),
        });

    [Fact]
    public void Attempts_end_at_their_limit_and_first_come_at_once_and_then_within_the_bound() =>
        Gen.Select(AnyPolicy, Gen.Int[1, 25], Gen.Double[0, 0.999]).Sample((policy, attempt, random) =>
        {
            var (delay, reason) = Redelivery.After(policy, attempt, asked: null, age: TimeSpan.Zero, random);
            if (attempt >= policy.MaxAttempts)
                return delay is null && reason!.StartsWith("failed ", StringComparison.Ordinal);
            if (attempt <= policy.RetriesAtOnce) return delay == TimeSpan.Zero;
            var bound = Redelivery.Bound(policy, attempt);
            return delay >= bound / 2 - TimeSpan.FromTicks(1) && delay <= bound && reason is null;
        });

    /// <summary>Every setting is reached: the first wait, the last, and by even steps what lies between.</summary>
    [Fact]
    public void Waits_grow_evenly_from_the_first_delay_to_the_longest() =>
        Gen.Select(AnyPolicy, Gen.Int[1, 20]).Where((policy, _) => policy.FirstDelay > TimeSpan.Zero)
            .Sample((policy, attempt) =>
            {
                var (first, last) = (policy.RetriesAtOnce + 1, policy.MaxAttempts - 1);
                if (first > last) return;
                Assert.Equal(policy.FirstDelay, Redelivery.Bound(policy, first));
                if (last > first) Assert.Equal(policy.MaxDelay, Redelivery.Bound(policy, last));
                if (attempt <= first || attempt >= last) return;
                var (before, now, next) = (Redelivery.Bound(policy, attempt - 1), Redelivery.Bound(policy, attempt),
                    Redelivery.Bound(policy, attempt + 1));
                Assert.Equal(1, now / before / (next / now), tolerance: 1e-3);
            });

    [Fact]
    public void As_the_options_are_set_an_event_is_tried_for_hours()
    {
        var policy = new ReceiverOptions();
        Assert.Empty(policy.Problems());
        var waits = Enumerable.Range(1, policy.MaxAttempts - 1).Select(n => Redelivery.Bound(policy, n)).ToList();
        Assert.Equal([TimeSpan.Zero, TimeSpan.Zero, TimeSpan.FromSeconds(1)], waits.Take(3));
        Assert.InRange(waits.Aggregate((a, b) => a + b), TimeSpan.FromHours(4), TimeSpan.FromHours(5));
    }

    [Fact]
    public void What_does_not_count_comes_again_after_a_part_of_the_time_that_it_has_been_tried_for() =>
        Gen.Select(Gen.Double[0, 100_000], Gen.Double[0, 0.999]).Sample((seconds, random) =>
        {
            var later = Redelivery.Later(TimeSpan.FromSeconds(seconds), random);
            var bound = Math.Clamp(seconds / 2, 0.2, 60);
            Assert.InRange(later.TotalSeconds, bound * 0.499, bound * 1.001);
        });

    [Fact]
    public void A_named_delay_goes_before_the_policy_but_not_before_its_limits()
    {
        var policy = new ReceiverOptions { MaxAttempts = 3, MaxAge = TimeSpan.FromHours(1) };
        var asked = TimeSpan.FromMinutes(20);
        Assert.Equal(asked, Redelivery.After(policy, 1, asked, TimeSpan.FromMinutes(40), 0.5).Delay);
        Assert.Equal("failed all 3 attempts", Redelivery.After(policy, 3, asked, TimeSpan.Zero, 0.5).Reason);
        var (delay, reason) = Redelivery.After(policy, 2, asked, TimeSpan.FromMinutes(41), 0.5);
        Assert.Null(delay);
        Assert.Equal("failed attempt 2, and would be older than 01:00:00 at the next", reason);
    }

    [Theory]
    [InlineData("20", "20")]
    [InlineData("self-tuned", "self-tuned")]
    [InlineData("unlimited", "unlimited")]
    [InlineData("0", "0")]
    [InlineData("many", null)]
    [InlineData("", null)]
    public void A_prefetch_is_read_as_it_is_written(string text, string? read) =>
        Assert.Equal(read, Prefetch.TryParse(text, out var prefetch) ? prefetch.ToString() : null);
}
