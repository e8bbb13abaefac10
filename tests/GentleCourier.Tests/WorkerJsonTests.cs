using GentleCourier.Engines;

namespace GentleCourier.Tests;

public sealed class WorkerJsonTests
{
    [Fact]
    public void What_a_worker_says_is_read_as_it_was_written()
    {
        var receiver = new ReceiverFigures("fares", ["boarded"], "self-tuned", 2)
        {
            InHand = 5, Running = 2, Handled = 7_000_000_000, Failed = 3, Longest = TimeSpan.FromSeconds(4.5),
            Brake = "the tide", BrakedFor = TimeSpan.FromDays(2),
        };
        var written = new WorkerFigures("1", "pier/7", "1.0", DateTimeOffset.UnixEpoch, [receiver]);
        var read = WorkerJson.Read(WorkerJson.Write(written), TimeSpan.FromSeconds(3))!;
        Assert.Equal(TimeSpan.FromSeconds(3), read.Seen);
        Assert.Equal(written, read with { Seen = default, Receivers = written.Receivers });
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
    public void What_cannot_be_read_is_left_out(string json) =>
        Assert.Empty(WorkerJson.Sorted([WorkerJson.Read(json, default)]));
}
