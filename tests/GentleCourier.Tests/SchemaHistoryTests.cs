using CsCheck;
using GentleCourier.Engines;

namespace GentleCourier.Tests;

public sealed class SchemaHistoryTests
{
    private static SchemaHistory History(params bool[] additive) => new(
        "store", [.. additive.Select((a, i) => new SchemaStep($"0.{i + 1}.0", a, $"STEP {i + 1}"))]);

    [Fact]
    public void The_oldest_version_that_may_be_used_is_that_of_the_last_step_that_does_more_than_add()
    {
        Assert.Equal(new FoundSchema(1, 1, "0.1.0"), History(false).Latest);
        Assert.Equal(new FoundSchema(3, 1, "0.1.0"), History(false, true, true).Latest);
        Assert.Equal(new FoundSchema(4, 3, "0.3.0"), History(false, true, false, true).Latest);
    }

    [Fact]
    public void Only_what_is_missing_is_run()
    {
        var history = History(false, true, false);
        Assert.Equal(["STEP 1", "STEP 2", "STEP 3"], history.Missing(new FoundSchema(0, 0, ""), "here"));
        Assert.Equal(["STEP 3"], history.Missing(new FoundSchema(2, 1, "0.1.0"), "here"));
        Assert.Empty(history.Missing(history.Latest, "here"));
    }

    /// <summary>
    /// Whatever steps follow, an old program goes on exactly as long as all that it does not know only add.
    /// </summary>
    [Fact]
    public void An_old_program_may_use_what_newer_steps_have_only_added_to() =>
        Gen.Select(Gen.Bool.Array[0, 6], Gen.Int[1, 7]).Sample((later, known) =>
        {
            bool[] all = [false, .. later];
            var old = History(all[..Math.Min(known, all.Length)]);
            var made = History(all).Latest;
            var adds = all.Skip(old.Latest.Version).All(a => a);
            if (adds) Assert.Empty(old.Missing(made, "here"));
            else Assert.Throws<CourierException>(() => old.Missing(made, "here"));
        });

    [Fact]
    public void An_error_says_what_to_do()
    {
        var history = History(false, true);
        var none = Assert.Throws<CourierException>(() => history.Check(
            new FoundSchema(0, 0, ""), "x:y", "an empty one"));
        Assert.Contains("x:y is an empty one; check the address, or run `courier schema apply store", none.Message,
            StringComparison.Ordinal);
        var older = Assert.Throws<CourierException>(() => history.Check(new FoundSchema(1, 1, "0.1.0"), "x:y", ""));
        Assert.Contains("has version 1, and this program needs 2", older.Message, StringComparison.Ordinal);
    }
}
