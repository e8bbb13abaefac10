using CsCheck;
using GentleCourier.ByHand;
using GentleCourier.Watching;

namespace GentleCourier.Tests;

public sealed class FindingsTests
{
    private static QueueFigures Queue(string name, long ready = 0, long dead = 0, params string[] types) =>
        new(name, ready, 0, 0, dead, ready > 0 ? TimeSpan.FromMinutes(15) : null)
        {
            Types = types.Length > 0 ? types : [name == "notices" ? "departed" : "boarded"],
        };

    private static WorkerFigures Worker(params ReceiverFigures[] receivers) =>
        new("1", "pier/7", "1.0", DateTimeOffset.UnixEpoch, receivers);

    private static ReceiverFigures Receives(string queue, string type = "boarded") => new(queue, [type], "20", 1);

    private static readonly WorkerFigures Everybody =
        Worker(Receives("deck-count"), Receives("fares"), Receives("notices", "departed"));

    private static IReadOnlyList<Finding> Find(QueueFigures[] queues, params WorkerFigures[]? workers) =>
        Findings.Of(new BrokerFigures("sqlite:broker.db", DateTimeOffset.UnixEpoch, queues, workers));

    /// <summary>What a queue counted, ten seconds apart, with so many of each in a second.</summary>
    private static IReadOnlyList<QueueCounts> Counts(long came, long accepted, long failed = 0, long aside = 0) =>
        [.. Enumerable.Range(0, 10).Select(i => new QueueCounts(DateTimeOffset.UnixEpoch.AddSeconds(10 * i),
            10 * i * came, 10 * i * accepted, 10 * i * failed, 10 * i * aside))];

    [Fact]
    public void All_is_well_where_somebody_receives_from_every_queue() =>
        Assert.Empty(Find([Queue("deck-count", 5), Queue("fares"), Queue("notices")], Everybody));

    [Fact]
    public void Events_wait_and_nobody_receives()
    {
        var finding = Assert.Single(Find([Queue("fares", 5_008)]));
        Assert.Equal(("queue-unreceived", true, TimeSpan.FromMinutes(15)),
            (finding.Code, finding.IsWrong, finding.For));
        Assert.Equal(
            "queue fares has 5,008 events waiting, the oldest for 15 min; nobody receives from it", finding.What);
        // It is said how fast it gathers more, where that is known.
        finding = Assert.Single(Find([Queue("fares", 5_008) with { History = Counts(came: 3, accepted: 0) }]));
        Assert.Equal("queue fares has 5,008 events waiting, the oldest for 15 min, and 3 a second come; nobody "
            + "receives from it", finding.What);
        // Where nobody knows who receives, nothing is said of it.
        Assert.Empty(Find([Queue("fares", 5_008)], null));
    }

    /// <summary>Of a broker that hands over by itself nobody knows since when the oldest waits.</summary>
    [Theory]
    [InlineData(0, 0, null)]
    [InlineData(1, 0, "20 s")]
    // One comes at this moment; it works; a handler has one; it is a broker of our own, which says why.
    [InlineData(0, 1, null)]
    public void A_broker_that_keeps_events_from_workers_who_ask_is_found(int waited, int accepted, string? time)
    {
        var history = Enumerable.Range(0, 4).Select(i => new QueueCounts(
            DateTimeOffset.UnixEpoch.AddSeconds(10 * i), 7 + waited + (i * accepted), 7 + (i * accepted), 0, 0))
            .ToList();
        var queue = Queue("taps", 1) with { OldestAge = null, History = history };
        var found = Find([queue], Worker(Receives("taps"))).Where(f => f.Code == "queue-withheld").ToList();
        if (time is null) Assert.Empty(found);
        else Assert.Equal("queue taps has 1 event waiting, and 1 worker with nothing in hand; the broker has given it "
            + $"none for {time}", Assert.Single(found).What);
        Assert.DoesNotContain(
            Find([queue], Worker(Receives("taps") with { InHand = 1 })), f => f.Code == "queue-withheld");
        Assert.DoesNotContain(
            Find([queue with { OldestAge = TimeSpan.FromHours(1) }], Worker(Receives("taps"))),
            f => f.Code == "queue-withheld");
    }

    /// <summary>
    /// The worker's queue was misspelt; with its right to make what is missing it has made and routed its own.
    /// </summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void A_worker_on_a_queue_with_a_similar_name_is_named_with_the_right_one(bool hasMadeItsOwn)
    {
        var its = Queue("faers") with { Types = hasMadeItsOwn ? ["boarded"] : [] };
        var found = Find([Queue("fares", 5_008), its], Worker(Receives("faers")));
        var misspelt = Assert.Single(found, f => f.Code == "queue-misspelt");
        Assert.Equal("nobody receives from queue fares, which has 5,008 events waiting, but worker pier/7 receives the "
            + "same type from faers: a slip in a name?", misspelt.What);
        Assert.Equal(!hasMadeItsOwn, found.Any(f => f.Code == "receiver-unrouted"
            && f.What.EndsWith("there is a queue fares", StringComparison.Ordinal)));
    }

    [Fact]
    public void A_receiver_that_nothing_goes_to_is_found()
    {
        var found = Assert.Single(Find([Queue("fares") with { Types = [] }], Worker(Receives("fares"))));
        Assert.Equal(("receiver-unrouted", "courier schema apply broker --route boarded=fares"),
            (found.Code, found.Next));
    }

    [Fact]
    public void A_queue_that_grows_is_found_with_how_large_it_will_be_and_how_many_workers_it_takes()
    {
        var busy = Receives("fares") with { Utilisation = 1 };
        var finding = Assert.Single(Find(
            [Queue("fares", 3_000) with { History = Counts(came: 120, accepted: 80) }], Worker(busy), Worker(busy)));
        Assert.Equal("queue-growing", finding.Code);
        Assert.Equal("queue fares never catches up: 120 a second come, 80 a second are handled by 2 workers; 3,000 "
            + "wait, and in an hour there will be about 150,000", finding.What);
        Assert.Equal("at least 4 workers like these keep up, and catch up within 5 min", finding.Next);
        // Nothing of the kind is said of one that drains.
        Assert.Empty(Find([Queue("fares", 3_000) with { History = Counts(came: 80, accepted: 120) }], Worker(busy)));
    }

    [Fact]
    public void A_storm_of_failures_and_dead_letters_that_rise_are_found()
    {
        var found = Find([Queue("fares", 10, dead: 33) with { History = Counts(came: 1, accepted: 1, 9, aside: 0) }],
            Worker(Receives("fares")));
        Assert.Equal(["redelivery-storm", "dead-letters"], found.Select(f => f.Code));
        Assert.Equal("of queue fares 9 a second attempts fail, and 1 a second events are handled: most of the work is "
            + "for nothing", found[0].What);
        found = Find([Queue("fares", 10, dead: 33) with { History = Counts(came: 9, accepted: 8, 1, aside: 1) }],
            Worker(Receives("fares")));
        var rising = Assert.Single(found);
        Assert.Equal(("dead-letters-rising", true), (rising.Code, rising.IsWrong));
        // One in a thousand is no reason to be woken.
        Assert.False(Assert.Single(Find([Queue("fares", 10, dead: 33) with { History = Counts(2000, 2000, 0, 1) }],
            Worker(Receives("fares")))).IsWrong);
        Assert.Equal("queue fares has set aside 90 events in the last 90 s; dead letters in all: 33", rising.What);
    }

    [Fact]
    public void A_worker_that_hoards_while_another_idles_is_found_with_the_prefetch_to_choose()
    {
        var hoarder = Receives("fares") with { InHand = 18, Running = 1, Longest = TimeSpan.FromSeconds(20) };
        var idle = Worker(Receives("fares") with { Utilisation = 0 }) with { Worker = "quay/9" };
        var found = Assert.Single(Find([Queue("fares")], Worker(hoarder), idle));
        Assert.Equal(("worker-hoarding", true), (found.Code, found.IsWrong));
        Assert.Equal("worker pier/7 holds 17 events of queue fares that it has no handler free for, while worker "
            + "quay/9 has nothing to do", found.What);
        Assert.Equal("set Courier:Receivers:fares:Prefetch to 1, or leave it self-tuned", found.Next);
        // Alone, it does no harm; nor where the other has its share, or has only just begun, or more is left for it.
        Assert.Empty(Find([Queue("fares")], Worker(hoarder)));
        Assert.Empty(Find([Queue("fares")], Worker(hoarder), Worker(Receives("fares"))));
        Assert.Empty(Find([Queue("fares", 9)], Worker(hoarder), idle));
        Assert.Empty(Find([Queue("fares")], Worker(hoarder), Worker(hoarder)));
    }

    [Fact]
    public void Clocks_apart_are_found()
    {
        var late = Worker(Receives("fares")) with { Ahead = TimeSpan.FromMinutes(-61) };
        Assert.Equal("the clock of worker pier/7 is 61 min behind the broker's",
            Assert.Single(Find([Queue("fares")], late)).What);
        Assert.Empty(Find([Queue("fares")], late with { Ahead = TimeSpan.FromSeconds(-1) }));
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
        var found = Find([Queue("fares", dead: 3)], Worker(receiver), newer);
        Assert.Equal(["dead-letters", "queue-braked", "link-failing", "handler-long", "versions-differ"],
            found.Select(f => f.Code));
        Assert.Equal("worker pier/7 has braked queue fares for 3 min: events of type boarded fail with "
            + "HttpRequestException", found[1].What);
        Assert.Equal([false, true, true, true, false], found.Select(f => f.IsWrong));
        // With a limit, it is found near that.
        var limited = receiver with { TimeLimit = TimeSpan.FromMinutes(12), Brake = null, Problem = null };
        Assert.False(Assert.Single(Find([Queue("fares")], Worker(limited))).IsWrong);
        Assert.Empty(Find([Queue("fares")], Worker(limited with { TimeLimit = TimeSpan.FromHours(1) })));
    }

    [Fact]
    public void An_outbox_that_stands_still_is_found()
    {
        var outbox = new OutboxFigures(7, 2, 1, TimeSpan.FromMinutes(2), null, "the broker is away")
        {
            OldestSnapshot = TimeSpan.FromHours(3), SnapshotHolder = "process 7, user owner", DeadRows = 900_000,
        };
        var found = Findings.Of("sqlite:harbour.db", outbox);
        Assert.Equal(["outbox-unrelayed", "outbox-stopped", "outbox-held", "outbox-refused", "snapshot-held",
            "dead-rows"], found.Select(f => f.Code));
        Assert.Equal(TimeSpan.FromMinutes(2), found[0].For);
        Assert.StartsWith("at most 7 events", Findings.Of("sqlite:harbour.db",
            outbox with { Precision = Precision.AtMost })[0].What, StringComparison.Ordinal);
        Assert.Empty(Findings.Of("sqlite:harbour.db", new OutboxFigures(7, 0, 0, TimeSpan.Zero, "pier/7", null)));
    }

    /// <summary>Between two looks an event went from an outbox through its queue, into the next outbox.</summary>
    [Fact]
    public void All_is_drained_only_where_nothing_came_between_two_looks()
    {
        Assert.True(Look(came: 7).IsDrainedSince(Look(came: 7)));
        Assert.False(Look(came: 8).IsDrainedSince(Look(came: 7)));
        Assert.False(Look(came: 7).IsDrainedSince(Look(came: 7, ready: 1)));
        Assert.False(Look(came: 7, outbox: 1).IsDrainedSince(Look(came: 7)));
        var look = Look(came: 7);
        Assert.False(new CourierStatus(look.Broker, look.Stores, [new("store-unreachable", true, "", "")])
            .IsDrainedSince(look));

        static CourierStatus Look(long came, long ready = 0, long outbox = 0) => new(
            new BrokerFigures("sqlite:broker.db", default,
                [Queue("fares", ready) with { History = [new(default, came, came - ready, 0, 0)] }], []),
            [new StoreFigures("harbour", new OutboxFigures(outbox, 0, 0, null, "pier/7", null))], []);
    }

    /// <summary>It is said by whom and for how long; that events wait meanwhile is nothing to wonder at.</summary>
    [Fact]
    public void What_was_ordered_by_hand_is_said_while_it_stands()
    {
        var pause = new Pause("ada", "card machine is down", TimeSpan.FromMinutes(5), null);
        var paused = Queue("fares", 9) with { Pause = pause, History = Counts(came: 3, accepted: 0) };
        var found = Assert.Single(Find([paused]));
        Assert.Equal(("queue-paused", false, "fares"), (found.Code, found.IsWrong, found.Subject));
        Assert.Equal(
            "queue fares is paused by hand (ada: card machine is down; 5 min ago, until somebody ends it); it has 9 "
            + "events waiting", found.What);
        Assert.Equal("courier resume fares", found.Next);
        var relay = Assert.Single(Findings.Of("harbour", new OutboxFigures(7, 0, 0, TimeSpan.Zero, "pier/7", null)
        {
            Pause = pause with { Why = null, Left = TimeSpan.FromHours(3) },
        }));
        Assert.Equal(
            "the relay of harbour is paused by hand (ada; 5 min ago, for 3 h more); 7 wait", relay.What);

        var worker = Worker(
            Receives("fares") with { InHand = 2, SteeringProblem = "Prefetch must be at least …" }) with
            {
                IsDrained = true,
            };
        var all = Findings.Of(
            new BrokerFigures("sqlite:broker.db", default, [Queue("fares")], [worker])
            {
                Instructions =
                [
                    new("fares", null, new Steering { Parallel = 9 }, "ada", null, default, TimeSpan.FromHours(9)),
                    new("fares", "1", new Steering { MaxPerSecond = 0.5 }, "ada", null, default, null),
                    new(null, "1", null, "bela", "new disk", default, null),
                    new(null, "gone", null, "bela", null, default, null),
                ],
            });
        Assert.Equal(
            [
                "steering-refused: worker pier/7 does not receive from queue fares as somebody has said by hand: "
                    + "Prefetch must be at least …",
                "worker-drained: worker pier/7 takes no more by hand (bela: new disk; 0 s ago, until its process "
                    + "ends); it has 2 events in hand",
                "worker-steered: all workers of queue fares are to receive with parallel 9 by hand (ada; 0 s ago, "
                    + "for 9 h more)",
                "worker-steered: worker pier/7 of queue fares is to receive with at most 0.5 a second by hand "
                    + "(ada; 0 s ago, until its process ends)",
            ],
            all.Select(f => $"{f.Code}: {f.What}").Order(StringComparer.Ordinal));
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
