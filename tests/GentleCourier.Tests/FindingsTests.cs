using CsCheck;
using GentleCourier.Engines;

namespace GentleCourier.Tests;

public sealed class FindingsTests
{
    private static readonly Topology Ferry = new(
        ["deck-count", "fares", "notices"],
        [new("boarded", "deck-count"), new("boarded", "fares"), new("departed", "notices")]);

    private static QueueFigures Queue(string name, long ready = 0, long dead = 0) =>
        new(name, ready, 0, 0, dead, ready > 0 ? TimeSpan.FromMinutes(15) : null);

    private static WorkerFigures Worker(params ReceiverFigures[] receivers) =>
        new("1", "pier/7", "1.0", DateTimeOffset.UnixEpoch, receivers);

    private static ReceiverFigures Receives(string queue, string type = "boarded") => new(queue, [type], "20", 1);

    private static readonly WorkerFigures Everybody =
        Worker(Receives("deck-count"), Receives("fares"), Receives("notices", "departed"));

    [Fact]
    public void All_is_well_where_somebody_receives_from_every_queue() =>
        Assert.Empty(Findings.Of(Ferry, [Queue("deck-count", 5), Queue("fares"), Queue("notices")], [Everybody]));

    [Fact]
    public void Events_wait_and_nobody_receives()
    {
        var finding = Assert.Single(Findings.Of(Ferry, [Queue("fares", 5_008)], []));
        Assert.Equal(("queue-unreceived", true), (finding.Code, finding.IsWrong));
        Assert.Equal("5,008 events wait in queue fares, the oldest for 15 min, and nobody receives from it",
            finding.What);
        // Where nobody knows who receives, nothing is said of it.
        Assert.Empty(Findings.Of(Ferry, [Queue("fares", 5_008)], null));
    }

    /// <summary>
    /// The worker's queue was misspelt; with its right to make what is missing it has made and routed its own.
    /// </summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void A_worker_on_a_queue_with_a_similar_name_is_named_with_the_right_one(bool hasMadeItsOwn)
    {
        var topology = hasMadeItsOwn
            ? new Topology([.. Ferry.Queues, "fares-"], [.. Ferry.Routes, new("boarded", "faers")]) : Ferry;
        var found = Findings.Of(topology, [Queue("fares", 5_008)], [Worker(Receives("faers"))]);
        var misspelt = Assert.Single(found, f => f.Code == "queue-misspelt");
        Assert.Equal("nobody receives from queue fares, where 5,008 events wait, but worker pier/7 receives the same "
            + "type from faers: a slip in a name?", misspelt.What);
        Assert.Equal(!hasMadeItsOwn, found.Any(f => f.Code == "receiver-unrouted"
            && f.What.EndsWith("there is a queue fares", StringComparison.Ordinal)));
    }

    [Fact]
    public void What_a_worker_says_of_itself_is_found()
    {
        var receiver = Receives("fares") with
        {
            Brake = "events of type boarded fail with HttpRequestException", BrakedFor = TimeSpan.FromMinutes(3),
            Problem = "nothing listens there", Longest = TimeSpan.FromMinutes(11),
        };
        var newer = Worker(Receives("fares")) with { Version = "1.1" };
        var found = Findings.Of(Ferry, [Queue("fares", dead: 3)], [Worker(receiver), newer]);
        Assert.Equal(["queue-braked", "link-failing", "handler-long", "versions-differ", "dead-letters"],
            found.Select(f => f.Code));
        Assert.Equal("worker pier/7 has braked queue fares for 3 min: events of type boarded fail with "
            + "HttpRequestException", found[0].What);
        Assert.Equal([true, true, true, false, false], found.Select(f => f.IsWrong));
        // With a limit, it is found near that.
        var limited = receiver with { TimeLimit = TimeSpan.FromMinutes(12), Brake = null, Problem = null };
        Assert.False(Assert.Single(Findings.Of(Ferry, [], [Worker(limited)])).IsWrong);
        Assert.Empty(Findings.Of(Ferry, [], [Worker(limited with { TimeLimit = TimeSpan.FromHours(1) })]));
    }

    [Fact]
    public void An_outbox_that_stands_still_is_found()
    {
        var outbox = new OutboxFigures(7, 2, 1, TimeSpan.FromMinutes(2), null, "the broker is away")
        {
            OldestSnapshot = TimeSpan.FromHours(3), SnapshotHolder = "process 7, user owner", DeadRows = 9,
        };
        Assert.Equal(["outbox-unrelayed", "outbox-stopped", "outbox-held", "outbox-refused", "snapshot-held"],
            Findings.Of("sqlite:harbour.db", outbox).Select(f => f.Code));
        Assert.Empty(Findings.Of("sqlite:harbour.db", new OutboxFigures(7, 0, 0, TimeSpan.Zero, "pier/7", null)));
    }

    [Theory]
    [InlineData("deck-count", "deck-cuont", true)]
    [InlineData("deck-count", "deckcount", true)]
    [InlineData("fares", "faresx", true)]
    [InlineData("fares", "fares", false)]
    [InlineData("fares", "notices", false)]
    [InlineData("fares", "bears", false)]
    public void Names_that_differ_by_a_slip_are_similar(string a, string b, bool similar) =>
        Assert.Equal(similar, Similar.Are(a, b));

    [Fact]
    public void Slips_are_a_distance() =>
        Gen.Select(Gen.String[Gen.Char['a', 'c'], 0, 8], Gen.String[Gen.Char['a', 'c'], 0, 8]).Sample((a, b) =>
        {
            var distance = Similar.Distance(a, b);
            return distance == Similar.Distance(b, a) && distance == 0 == (a == b)
                && distance >= Math.Abs(a.Length - b.Length) && distance <= Math.Max(a.Length, b.Length);
        });
}
