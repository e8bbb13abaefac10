using GentleCourier.Engines;
using GentleCourier.Watching;

namespace GentleCourier.Conformance;

/// <summary>Processes that die, at every place between two writes and in the middle of their work.</summary>
public abstract class CrashScenarios<TPlace> where TPlace : Place, new()
{
    private const int Count = 10;

    private static async Task<List<int>> NumbersAsync(
        Crossing crossing, string service, string table, string column = "number")
    {
        var store = crossing.SharedStore(service);
        return await ExistsAsync(() => store.ReadOutboxFiguresAsync()) && await store.HasTableAsync(table)
            ? await Crossing.NumbersAsync(store, $"SELECT {column} FROM {table}")
            : [];
    }

    /// <summary>Whether a store or a broker is there already.</summary>
    private static async Task<bool> ExistsAsync(Func<Task> read)
    {
        try
        {
            await read();
            return true;
        }
        catch (CourierException)
        {
            return false;
        }
    }

    /// <summary>
    /// Whether everything is published and relayed. Where it ticks, which it does for as long as a relay runs, all
    /// marks are handled instead, and a tick.
    /// </summary>
    private static async Task<bool> IsRelayedAsync(Crossing crossing, bool isTimed) =>
        (await NumbersAsync(crossing, "harbour", "sent")).Count == Count
        && (isTimed
            ? (await NumbersAsync(crossing, "fares", "mark")).Distinct().Count() == Count
                && (await NumbersAsync(crossing, "fares", "tick", "second")).Count > 0
            : await crossing.SharedStore("harbour").ReadOutboxFiguresAsync() is { Waiting: 0, Later: 0 });

    private static async Task<bool> IsSettledAsync(Crossing crossing) =>
        await ExistsAsync(() => crossing.Reports.ReadFiguresAsync())
        && (await crossing.Reports.ReadFiguresAsync()).Queues.SingleOrDefault() is { Waiting: 0 };

    /// <summary>
    /// Runs publisher, relay and receiver until all is done and they are stopped; whoever is killed is started again,
    /// and is spared then.
    /// </summary>
    /// <returns>Whether one was killed.</returns>
    private static async Task<bool> RunAsync(
        Crossing crossing, Settling settling, bool isTimed, string? fault, string settings, List<string> said)
    {
        (string Role, string Service, string[] Settings)[] parts =
        [
            ("publish", "harbour", [$"Rig:Count={Count}"]), ("relay", "harbour", []),
            ("receive", "fares", [$"Courier:Receivers:marks:Settling={settling}"]),
        ];
        Rig[] rigs = [.. parts.Select(part => Start(part, fault is null ? [] : [$"Rig:Fault={fault}"]))];
        var wasKilled = false;
        try
        {
            await UntilAsync(
                async () => rigs[0].HasEnded && rigs[1].HasStarted && rigs[2].HasStarted
                    && await IsRelayedAsync(crossing, isTimed), relayRuns: true, "all is relayed");
            // From here on nothing more comes.
            await rigs[1].StopAsync();
            await UntilAsync(
                async () => rigs[2].HasStarted && await IsSettledAsync(crossing), relayRuns: false, "all is settled");
            foreach (var rig in rigs) await rig.StopAsync();
            Assert.All(rigs, rig => Assert.True(
                rig.ExitCode is 0 or Rig.Killed, $"it ended with {rig.ExitCode}: {string.Join('\n', rig.Lines)}"));
            if (!rigs.Any(r => r.WasKilled)) return wasKilled;
        }
        finally
        {
            foreach (var rig in rigs) Leave(rig);
        }
        // Of those who were killed as they stopped, the next finds what they left.
        Assert.NotNull(fault);
        Assert.False(await RunAsync(crossing, settling, isTimed, null, settings, said));
        return true;

        void Leave(Rig rig)
        {
            said.AddRange(rig.Lines);
            rig.Dispose();
        }

        Task UntilAsync(Func<Task<bool>> condition, bool relayRuns, string what) => Crossing.UntilAsync(
            async () =>
            {
                for (var i = 0; i < rigs.Length; i++)
                {
                    // A relay that was killed as it stopped has stopped.
                    if (!rigs[i].WasKilled || (i == 1 && !relayRuns)) continue;
                    wasKilled = true;
                    Leave(rigs[i]);
                    rigs[i] = Start(parts[i]);
                }
                return await condition();
            },
            what);

        Rig Start((string Role, string Service, string[] Settings) part, params string[] more) => new(
            crossing, part.Role, part.Service, [.. part.Settings, settings, $"Rig:Timed={isTimed}", .. more]);
    }

    /// <summary>One of the processes is killed at a place, and started again.</summary>
    protected static async Task KillAndGoOnAsync(string place)
    {
        await using var crossing = new Crossing(new TPlace());
        var settling = place == FaultPoint.ArrivalSettledNotHandled ? Settling.OnArrival : Settling.AfterHandling;
        // What is lost is a mark, where nothing else is there to be lost.
        var said = new List<string>();
        Assert.True(await RunAsync(crossing, settling, isTimed: settling == Settling.AfterHandling, place,
            $"Rig:Fails={place == FaultPoint.TakenOverNotAccepted}", said));

        var sent = await NumbersAsync(crossing, "harbour", "sent");
        var marks = await NumbersAsync(crossing, "fares", "mark");
        Assert.Equal(Enumerable.Range(0, Count), sent.Order());
        if (settling == Settling.OnArrival)
        {
            // At most once: the one that was in hand is lost, as was chosen.
            Assert.True((marks.Distinct().Count(), marks.Count) == (Count - 1, Count - 1),
                $"of {Count} there are {string.Join(',', marks.Order())}:\n{string.Join('\n', said)}");
            return;
        }
        var ticks = (await NumbersAsync(crossing, "fares", "tick", "second")).Order().ToList();
        Assert.Equal(Enumerable.Range(ticks[0], ticks[^1] - ticks[0] + 1), ticks);
        var ledger = Ledger.Balance(sent.Select(n => $"{n}"), marks.Select(n => $"{n}"), [], [], 0);
        Assert.True(ledger.Balances,
            $"missing {string.Join(',', ledger.Missing)}, unexpected {string.Join(',', ledger.Unexpected)}");
    }

    internal static async Task PublishMarksAsync(Crossing crossing, int count)
    {
        await crossing.RouteAsync(("rig.mark", "marks"));
        await crossing.Broker()
            .PublishAsync(
            [.. Enumerable.Range(0, count).Select(
            i => new EncodedEvent($"{i}", "rig.mark", null, System.Text.Encoding.UTF8.GetBytes(
            $$"""{"specversion":"1.0","id":"{{i}}","source":"/t","type":"rig.mark","data":{"number":{{i}}} }""")))]);
    }

    [Fact]
    public async Task An_event_that_kills_its_worker_runs_out_of_attempts_and_takes_no_other_with_it()
    {
        var place = new TPlace();
        await using var crossing = new Crossing(place);
        await PublishMarksAsync(crossing, 20);
        string[] settings = ["Rig:Poison=3", "Courier:Receivers:marks:MaxAttempts=3",
            "Courier:Receivers:marks:Parallel=4"];
        for (var death = 1; death <= 3 + place.UncountedDeaths; death++)
        {
            using var doomed = new Rig(crossing, "receive", "fares", settings);
            Assert.Equal(Rig.Killed, await doomed.EndsAsync());
        }

        using var last = new Rig(crossing, "receive", "fares", settings);
        await Crossing.UntilAsync(async () => await crossing.FiguresAsync(
            "marks") is { Ready: 0, InHand: 0, Scheduled: 0 }, "the queue has moved on");
        Assert.Equal(
            Enumerable.Range(0, 20).Where(n => n != 3), (await NumbersAsync(crossing, "fares", "mark")).Order());
        var letter = Assert.Single(await crossing.DeadLetters.ReadAsync(null, 10));
        Assert.Equal(3, Crossing.NumberOf(letter.Json));
        Assert.Equal(
            "out of attempts: handed over 3 times, and the last attempt was never settled; its worker was killed or "
            + "lost its lease", letter.Reason);
    }

    [Fact]
    public async Task Many_processes_share_one_place_and_none_is_in_trouble()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("rig.mark", "marks"));
        const int Stores = 3;
        const int Marks = 400;
        List<Rig> rigs = [.. Enumerable.Range(0, Stores).SelectMany(s => (Rig[])
        [
            new(crossing, "publish", $"harbour-{s}", $"Rig:Count={Marks}", $"Courier:Source=/rig/{s}"),
            new(crossing, "relay", $"harbour-{s}"),
            // With nine processes on few cores, a second may pass before one has its turn.
            new(crossing, "receive", "fares", "Courier:Receivers:marks:Parallel=2",
                "Courier:Receivers:marks:Lease=00:00:30"),
        ])];
        try
        {
            for (var s = 0; s < Stores; s++) Assert.Equal(0, await rigs[s * 3].EndsAsync());
            await Crossing.UntilAsync(
                async () => (await NumbersAsync(crossing, "fares", "mark")).Count >= Stores * Marks
                    && await crossing.FiguresAsync("marks") is { Ready: 0, InHand: 0, Scheduled: 0 },
                "all is handled");
        }
        finally
        {
            rigs.ForEach(r => r.Dispose());
        }
        Assert.Equal(
            Enumerable.Range(0, Marks).SelectMany(n => Enumerable.Repeat(n, Stores)),
                (await NumbersAsync(crossing, "fares", "mark")).Order());
        Assert.False(rigs.Exists(r => !r.Lines.IsEmpty), string.Join('\n', rigs.SelectMany(r => r.Lines)));
    }
}

/// <summary>And at every place between two writes.</summary>
public abstract class KillScenarios<TPlace> : CrashScenarios<TPlace> where TPlace : Place, new()
{
    /// <summary>All but those that only a broker with a companion, or a backlog, comes to.</summary>
    public static TheoryData<string> Places =>
        [.. FaultPoint.All.Except([FaultPoint.TakenOverNotAccepted, FaultPoint.NextUnderWayNotMarked])];

    [Theory]
    [MemberData(nameof(Places))]
    public Task A_kill_between_any_two_writes_loses_nothing_and_repeats_nothing(string place) =>
        KillAndGoOnAsync(place);
}
