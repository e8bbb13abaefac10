using System.Text;
using CsCheck;
using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;

namespace GentleCourier.Tests;

public sealed class FailureCauseTests
{
    private static DeadLetter Letter(string reason, Failure? failure = null, string type = "test.tap") => new()
    {
        Id = "1", Queue = "taps", Reason = reason, Failure = failure, Attempts = 1, Worker = "w", SetAside = default,
        Json = Encoding.UTF8.GetBytes($$"""{"specversion":"1.0","id":"1","source":"/t","type":"{{type}}"}"""),
    };

    [Theory]
    [InlineData("no such pier 'Atlantis'", "no such pier '…'")]
    [InlineData("no such pier \"At'lantis\" here", "no such pier \"…\" here")]
    [InlineData("can't find the captain's log", "can't find the captain's log")]
    [InlineData("can't find 'the captain's log'", "can't find '…'")]
    [InlineData("sailing 0614-Old-Light has left", "sailing # has left")]
    [InlineData("took 1,024.5 ms at 06:14:03, of 500", "took # ms at #, of #")]
    [InlineData("id 0192f3a1-77aa-7c3e-9d51-02a4f5c6d7e8 of gate-1/17", "id # of #")]
    [InlineData("the tide is out.\nand a second line", "the tide is out.")]
    [InlineData("(a=1, b=2)", "(a=#, b=#)")]
    [InlineData("", "")]
    [InlineData("it isn't over: 'never closed", "it isn't over: 'never closed")]
    public void Of_a_message_what_differs_from_event_to_event_is_left_out(string message, string shape) =>
        Assert.Equal(shape, FailureCause.Shape(message));

    [Fact]
    public void Whatever_the_numbers_and_quotes_are_the_cause_is_the_same() =>
        Gen.Select(Gen.Int, Gen.Guid, Gen.Double[0, 1e9], Gen.String[Gen.Char.AlphaNumeric, 0, 20]).Sample(
            (number, id, amount, quoted) =>
            {
                var message = FormattableString.Invariant(
                    $"card {number} of {id} lacks {Math.Abs(amount):0.00} crowns for '{quoted}'");
                Assert.Equal("card # of # lacks # crowns for '…'",
                    FailureCause.Shape(message).Replace("card -#", "card #", StringComparison.Ordinal));
            });

    [Fact]
    public void Whatever_is_said_has_a_shape_of_one_line_and_limited_length_without_a_digit() =>
        Gen.String[0, 1000].Sample(message =>
        {
            var shape = FailureCause.Shape(message);
            Assert.InRange(shape.Length, 0, 200);
            Assert.DoesNotContain(shape, c => c is '\n' or (>= '0' and <= '9'));
        });

    [Fact]
    public void The_exception_goes_before_the_reason_and_queue_type_and_exception_tell_causes_apart()
    {
        var failure = new Failure("FerryLine.CardException", "card 17 is blocked", "at …");
        var cause = FailureCause.Of(Letter("failed all 12 attempts", failure));
        Assert.Equal(new FailureCause("taps", "test.tap", "CardException", "card # is blocked"), cause);
        var alike = new Failure(failure.Exception, "card 4 is blocked", "at …");
        Assert.Equal(cause.Id, FailureCause.Of(Letter("another", alike)).Id);
        Assert.Matches("^[0-9a-f]{8}$", cause.Id);
        string[] others =
        [
            FailureCause.Of(Letter("x", failure, "test.other")).Id,
            FailureCause.Of(Letter("x", new("Other", failure.Message, "at …"))).Id,
            FailureCause.Of(Letter("x", failure) with { Queue = "other" }).Id,
            FailureCause.Of(Letter("card 17 is blocked")).Id,
            FailureCause.Of(Letter("x", failure) with { Json = "no event"u8.ToArray() }).Id,
        ];
        Assert.Equal(6, others.Append(cause.Id).Distinct().Count());
    }
}
