using CsCheck;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Postgres.Tests;

public sealed class PositionTests
{
    /// <summary>
    /// Transactions draw numbers, commit or roll back in any order, and a relay reads and deletes between any two of
    /// those steps: whatever commits is read, without ever looking at all again.
    /// </summary>
    [Fact]
    public void No_row_that_commits_is_ever_behind_the_place() =>
        Gen.Int[0, 5].Array[10, 400].Sample(steps =>
        {
            var position = new Position(0, new FakeTimeProvider());
            // Transactions under way, by the number of each, with the rows that they have written.
            var underWay = new SortedDictionary<long, List<long>>();
            var visible = new SortedSet<long>();
            var (transactions, rows, committed, read, highest) = (100L, 0L, 0, 0, 0L);
            foreach (var step in steps.Concat(Enumerable.Repeat(3, 40)).Concat(Enumerable.Repeat(4, 60)))
            {
                switch (step)
                {
                    case 0:
                        underWay.Add(transactions++, [++rows]);
                        break;
                    case 1 when underWay.Count > 0:
                        underWay.Last().Value.Add(++rows);
                        break;
                    case 2 when underWay.Count > 0:
                        underWay.Remove(underWay.Keys.Skip(underWay.Count / 2).First());
                        break;
                    case 3 when underWay.Count > 0:
                        var (number, written) = rows % 2 == 0 ? underWay.First() : underWay.Last();
                        visible.UnionWith(written);
                        committed += written.Count;
                        underWay.Remove(number);
                        break;
                    default:
                        var ended = underWay.Count > 0 ? underWay.Keys.First() : transactions;
                        var batch = visible.Where(row => row > position.Place).Take(3).ToList();
                        var first = visible.FirstOrDefault(row => row > position.Place);
                        position.Read(
                            ended, first == 0 ? null : first, batch.Count == 0 ? null : batch[^1], transactions);
                        read += batch.Count;
                        highest = Math.Max(highest, batch.LastOrDefault());
                        visible.ExceptWith(batch);
                        break;
                }
            }
            while (visible.Any(row => row > position.Place)) visible.Remove(visible.First(row => row > position.Place));
            Assert.Empty(visible);
            Assert.True(read <= committed);

            // And it comes to what was read last, even when nothing more is read.
            for (var i = 0; i < 3; i++) position.Read(transactions, null, null, transactions);
            Assert.Equal(highest, position.Place);
        });

    [Fact]
    public void The_place_follows_the_reading_once_all_have_ended_that_were_under_way()
    {
        var clock = new FakeTimeProvider();
        var position = new Position(0, clock);
        position.Read(ended: 10, first: 1, last: 500, upcoming: 20);
        position.Read(ended: 19, first: null, last: null, upcoming: 30);
        Assert.Equal(0, position.Place);
        position.Read(ended: 20, first: 480, last: 480, upcoming: 31);
        Assert.Equal(0, position.Place);
        position.Read(ended: 20, first: null, last: null, upcoming: 31);
        Assert.Equal(500, position.Place);

        Assert.False(position.IsTimeForAll);
        clock.Advance(TimeSpan.FromSeconds(2));
        Assert.True(position.IsTimeForAll);
        position.LookedAtAll(TimeSpan.FromSeconds(1));
        clock.Advance(TimeSpan.FromSeconds(19));
        Assert.False(position.IsTimeForAll);
        clock.Advance(TimeSpan.FromSeconds(1));
        Assert.True(position.IsTimeForAll);
    }

    /// <summary>
    /// A backlog fills every batch: if only one that came to the end counted, each would walk all that is dead.
    /// </summary>
    [Theory]
    [InlineData(20, 10)]
    [InlineData(3, 0)]
    public void Once_a_reading_of_all_has_come_beyond_the_place_the_next_begins_there(long last, long from)
    {
        var clock = new FakeTimeProvider();
        var position = new Position(10, clock);
        clock.Advance(TimeSpan.FromMinutes(1));
        var reading = new Reading(position, null!, clock);
        Assert.Equal(0, reading.From);
        reading.End(last, isFull: true);
        Assert.Equal(from, new Reading(position, null!, clock).From);
    }
}
