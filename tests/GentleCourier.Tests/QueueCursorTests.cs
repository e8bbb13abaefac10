using CsCheck;
using GentleCourier.Engines;

namespace GentleCourier.Tests;

public sealed class QueueCursorTests
{
    [Fact]
    public void A_place_is_read_as_it_was_written() => Gen
        .Select(Gen.Bool, Gen.Long[0, DateTimeOffset.MaxValue.UtcTicks], Gen.Long)
        .Sample((isTimed, ticks, copy) =>
        {
            var place = new QueueCursor(
                isTimed, isTimed ? new DateTimeOffset(ticks, TimeSpan.Zero) : DateTimeOffset.UnixEpoch, copy);
            Assert.Equal(place, QueueCursor.Parse(place.ToString()));
        });

    [Fact]
    public void What_is_no_place_is_refused() => Gen.String.Sample(text =>
    {
        try
        {
            Assert.Equal(text, QueueCursor.Parse(text).ToString());
        }
        catch (ArgumentException e)
        {
            Assert.Contains("is no place in a queue", e.Message, StringComparison.Ordinal);
        }
    });

    [Theory, InlineData(""), InlineData("n"), InlineData("t5"), InlineData("t-1.5"), InlineData("n1.2"),
        InlineData("t99999999999999999999.1"), InlineData("x1")]
    public void These_neither(string text) => Assert.Throws<ArgumentException>(() => QueueCursor.Parse(text));
}
