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
            LongestDelay = TimeSpan.FromMilliseconds(first + more),
        });

    [Fact]
    public void Attempts_end_at_their_limit_and_first_come_at_once_and_then_within_the_bound() =>
        Gen.Select(AnyPolicy, Gen.Int[1, 25], Gen.Double[0, 0.999]).Sample((policy, attempt, random) =>
        {
            var (delay, reason) = Redelivery.After(policy, attempt, asked: null, age: null, random);
            if (attempt >= policy.MaxAttempts)
                return delay is null && reason!.StartsWith("failed ", StringComparison.Ordinal);
            if (attempt <= policy.RetriesAtOnce) return delay == TimeSpan.Zero;
            var bound = BackOff.Bound(attempt - policy.RetriesAtOnce, policy.FirstDelay, policy.LongestDelay);
            return delay >= TimeSpan.Zero && delay <= bound && bound <= policy.LongestDelay && reason is null;
        });

    [Fact]
    public void A_named_delay_goes_before_the_policy_but_not_before_its_limits()
    {
        var policy = new ReceiverOptions { MaxAttempts = 3, MaxAge = TimeSpan.FromHours(1) };
        var asked = TimeSpan.FromMinutes(20);
        Assert.Equal(asked, Redelivery.After(policy, 1, asked, TimeSpan.FromMinutes(40), 0.5).Delay);
        Assert.Equal("failed all 3 attempts", Redelivery.After(policy, 3, asked, null, 0.5).Reason);
        var (delay, reason) = Redelivery.After(policy, 2, asked, TimeSpan.FromMinutes(41), 0.5);
        Assert.Null(delay);
        Assert.Equal("failed attempt 2, and would be older than 01:00:00 at the next", reason);
    }

    [Fact]
    public void Nobody_knows_how_old_an_event_without_a_time_is() =>
        Assert.NotNull(
            Redelivery.After(new ReceiverOptions { MaxAge = TimeSpan.FromSeconds(1) }, 1, null, age: null, 0).Delay);

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
