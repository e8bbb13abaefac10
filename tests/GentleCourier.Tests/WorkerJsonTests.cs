using GentleCourier.Engines;
using GentleCourier.Watching;

namespace GentleCourier.Tests;

public sealed class WorkerJsonTests
{
    [Fact]
    public void What_a_worker_says_is_read_as_it_was_written()
    {
        var receiver = new ReceiverFigures("fares", ["boarded"], "self-tuned", 2)
        {
            InHand = 5, Running = 2, Handled = 7_000_000_000, Failed = 3, Longest = TimeSpan.FromSeconds(4.5),
            Brake = "the tide", BrakedFor = TimeSpan.FromDays(2), Utilisation = 0.75,
            HandlingTimes = new Histogram(-3, [1, 0, 7]),
        };
        var seen = DateTimeOffset.UnixEpoch.AddDays(1);
        var written = new WorkerFigures("1", "pier/7", "1.0", DateTimeOffset.UnixEpoch, [receiver])
        {
            Said = seen.AddSeconds(-61),
        };
        var read = WorkerJson.Read(WorkerJson.Write(written), seen, seen.AddSeconds(3))!;
        Assert.Equal((3, -61), (read.Seen.TotalSeconds, read.Ahead!.Value.TotalSeconds));
        Assert.Equal(written, read with { Seen = default, Ahead = null, Receivers = written.Receivers });
        Assert.Equal(receiver, Assert.Single(read.Receivers) with { Types = receiver.Types });
        Assert.Equal(["boarded"], read.Receivers[0].Types);
    }

    /// <summary>Rows of other programs must not keep people from seeing the rest.</summary>
    [Theory]
    [InlineData("")]
    [InlineData("[")]
    [InlineData("null")]
    [InlineData("{}")]
    [InlineData("""{"id":"1","worker":"w","version":"1","since":"2031-06-14T06:00:00Z"}""")]
    [InlineData("""{"id":"1","worker":"w","version":"1","since":"2031-06-14T06:00:00Z","receivers":[{"queue":"q"}]}""")]
    [InlineData("""
        {"id":"1","worker":"w","version":"1","receivers":[{"queue":"q","types":[],"prefetch":"1",
        "handlingTimes":{"first":2000000000,"counts":[1]}}]}
        """)]
    [InlineData("""
        {"id":"1","worker":"w","version":"1","receivers":[{"queue":"q","types":[],"prefetch":"1",
        "waitingTimes":{"first":0}}]}
        """)]
    public void What_cannot_be_read_is_left_out(string json) =>
        Assert.Empty(WorkerJson.Sorted([WorkerJson.Read(json, default, default)]));
}
