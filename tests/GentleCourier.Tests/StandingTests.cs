using CsCheck;
using GentleCourier.ByHand;
using GentleCourier.Engines;

namespace GentleCourier.Tests;

/// <summary>What stands of what was ordered by hand.</summary>
public sealed class StandingTests
{
    private static readonly Gen<Steering> AnySteering = Gen.Select(
        Gen.Int[1, 50].Nullable(), Gen.Int[1, 9].Nullable(), Gen.Double[0.1, 99].Nullable(), Gen.Int[0, 9].Nullable(),
        (prefetch, parallel, rate, brake) => new Steering
        {
            Prefetch = prefetch is { } held ? Prefetch.Of(held) : null, Parallel = parallel, MaxPerSecond = rate,
            BrakeAfter = brake,
        });

    /// <summary>What is said of one goes before what is said of all, each by itself.</summary>
    [Fact]
    public void Of_two_that_are_said_of_a_worker_the_nearer_counts() =>
        Gen.Select(AnySteering, AnySteering, Gen.Bool).Sample((all, one, isFirst) =>
        {
            Instruction ofAll = Steers(null, all), ofOne = Steers("a", one);
            var standing = new Standing(
                1, new Dictionary<string, Pause>(),
                [.. isFirst ? [ofOne, ofAll] : new[] { ofAll, ofOne }, Steers("b", new() { Parallel = 77 })]);
            var steered = standing.SteeringOf("fares", "a")!;
            Assert.Equal(
                (one.Prefetch ?? all.Prefetch, one.Parallel ?? all.Parallel, one.MaxPerSecond ?? all.MaxPerSecond,
                    one.BrakeAfter ?? all.BrakeAfter),
                (steered.Prefetch, steered.Parallel, steered.MaxPerSecond, steered.BrakeAfter));
            Assert.Equal(all, standing.SteeringOf("fares", "c"));
            Assert.Null(standing.SteeringOf("deck-count", "a"));
            Assert.False(standing.IsDrained("a"));
        });

    [Fact]
    public void What_is_written_down_is_what_is_read() =>
        AnySteering.Sample(steering => Assert.Equal(steering, SteeringJson.Read(SteeringJson.Write(steering))));

    [Fact]
    public void What_a_newer_version_has_written_says_nothing_where_it_cannot_be_read()
    {
        Assert.Null(SteeringJson.Read("[]"));
        Assert.Equal(new Steering { Parallel = 3 }, SteeringJson.Read("""{"parallel":3,"mood":"calm"}"""));
        Assert.Equal(new Steering(), SteeringJson.Read("""{"prefetch":"whatever"}"""));
    }

    /// <summary>Looked at when the first ends, one after the other goes, and nothing ends before.</summary>
    [Fact]
    public void Each_ends_at_its_time() => Gen.Int[1, 50].Nullable().Array[0, 9].Sample(times =>
    {
        var standing = new Standing(
            1, times.Select((t, i) => (Name: $"q{i}", t)).Where((_, i) => i % 2 == 0)
                .ToDictionary(q => q.Name, q => new Pause("ada", null, default, Seconds(q.t))),
            [.. times.Where((_, i) => i % 2 == 1)
                .Select(t => Steers(null, new Steering { Parallel = 2 }, Seconds(t)))]);
        for (var now = TimeSpan.Zero; ;)
        {
            var left = standing.After(now);
            Assert.Equal(
                times.Count(t => t is null || Seconds(t) > now), left.Pauses.Count + left.Instructions.Count);
            if (left.FirstEnd is not { } end) break;
            Assert.True(end > now);
            now = end;
        }
    });

    [Theory]
    [InlineData(1001, null, null, "Parallel must be 1 to 1,000, but is 1001")]
    [InlineData(null, 0.0, null, "MaxPerSecond must be 0.001 to 1,000,000, but is 0")]
    [InlineData(null, null, -1, "BrakeAfter must be 0 to 1,000, but is -1")]
    [InlineData(null, null, null, "it says nothing")]
    public void What_could_be_no_setting_of_anybody_is_refused(
        int? parallel, double? rate, int? brake, string problem) =>
        Assert.StartsWith(
            problem,
            new Steering { Parallel = parallel, MaxPerSecond = rate, BrakeAfter = brake }.Problems().First(),
            StringComparison.Ordinal);

    private static Instruction Steers(string? worker, Steering steering, TimeSpan? left = null) =>
        new("fares", worker, steering, "ada", null, default, left);

    private static TimeSpan? Seconds(int? count) => count is { } some ? TimeSpan.FromSeconds(some) : null;
}
