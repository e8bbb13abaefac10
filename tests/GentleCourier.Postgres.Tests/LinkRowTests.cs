using System.Diagnostics;

namespace GentleCourier.Postgres.Tests;

/// <summary>How often the row of a link is written.</summary>
public sealed class LinkRowTests
{
    [Fact]
    public async Task It_is_written_at_once_while_that_is_rare_and_seldom_beside_many_exchanges()
    {
        var began = Stopwatch.GetTimestamp();
        await using var row = new LinkRow(() => Task.CompletedTask);
        var written = 0;
        for (var exchange = 1; exchange <= 10_000; exchange++)
        {
            var way = row.Next(hasSettled: exchange % 2 == 0);
            if (exchange <= 100) Assert.NotEqual(LinkRow.Way.Not, way);
            if (way != LinkRow.Way.Not) written++;
            row.Is(way, taken: 8, inHand: 8 + (exchange % 2), passed: exchange);
        }
        Assert.InRange(written, 100, 101 + (2 * Stopwatch.GetElapsedTime(began).TotalSeconds));
    }

    [Fact]
    public async Task Nothing_is_in_hand_while_it_says_that_nothing_is()
    {
        await using var row = new LinkRow(() => Task.CompletedTask);
        LinkRow.Way way;
        while ((way = row.Next(hasSettled: true)) == LinkRow.Way.Write) row.Is(way, taken: 0, inHand: 0, passed: 0);
        Assert.Equal(LinkRow.Way.IfTaken, way);
    }

    [Fact]
    public async Task What_no_exchange_has_said_is_said_by_itself()
    {
        var said = new TaskCompletionSource();
        await using var row = new LinkRow(() =>
        {
            said.TrySetResult();
            return Task.CompletedTask;
        });
        row.Is(LinkRow.Way.Write, taken: 8, inHand: 8, passed: 8);
        while (row.Next(hasSettled: true) == LinkRow.Way.Write) row.Is(LinkRow.Way.Write, 0, inHand: 8, passed: 8);
        Assert.False(said.Task.IsCompleted);
        row.Is(LinkRow.Way.Not, taken: 0, inHand: 0, passed: 8);
        await said.Task.WaitAsync(TimeSpan.FromMinutes(2));
    }
}
