using System.Text.Json.Nodes;
using GentleCourier.Engines;
using GentleCourier.Sqlite;
using GentleCourier.Watching;

namespace GentleCourier.Cli.Tests;

/// <summary>By hand: queues are paused, workers steered and drained, and it is said who obeys.</summary>
public sealed class OrderTests : IDisposable
{
    private readonly Courier courier = new();

    public void Dispose() => courier.Dispose();

    /// <summary>A worker says in the register how it does.</summary>
    private static Task SaysAsync(IBroker broker, string name, long? heard, ReceiverFigures receiver) =>
        broker.Register!.BeatAsync(
            new WorkerFigures($"{name}/aa", name, "1.0", DateTimeOffset.UtcNow, [receiver])
            {
                Heard = heard, IsDrained = receiver.IsHeld,
            },
            TimeSpan.FromMinutes(5));

    private static ReceiverFigures Receives(string queue) => new(queue, [$"test.{queue}"], "20", 2);

    [Fact]
    public async Task It_is_said_who_holds_a_paused_queue_who_cannot_say_so_and_who_has_not()
    {
        await using var broker = await courier.MakeBrokerAsync("fares", "notices");
        var paused = await courier.RunAsync("pause", "fares", "--why", "card machine is down", "--by", "ada");
        paused.Says("queue fares is paused until it is resumed\nno worker is there that it is for");
        var status = await courier.RunAsync("status");
        status.Says("paused by hand");
        status.Says("queue-paused: queue fares is paused by hand (ada: card machine is down; ");
        status.Says("next: courier resume fares");
        var json = JsonNode.Parse((await courier.RunAsync("status", "--json")).Output)!["queues"]!.AsArray();
        Assert.Equal("ada", (string?)json.Single(q => (string?)q!["name"] == "fares")!["pause"]!["by"]);
        Assert.Null(json.Single(q => (string?)q!["name"] == "notices")!["pause"]);

        // The second order, of which one knows, one could not, one does not, and one does not receive from there.
        await SaysAsync(broker, "pier-1/1", heard: 2, Receives("fares") with { InHand = 1, Running = 1 });
        await SaysAsync(broker, "pier-2/2", heard: null, Receives("fares"));
        await SaysAsync(broker, "pier-4/4", heard: 0, Receives("notices"));
        paused = await courier.RunAsync("pause", "fares", "--for", "2h");
        paused.Says("queue fares is paused until 20");
        paused.Says("1 worker begins nothing of it: pier-1/1");
        paused.Says("note  1 worker cannot say so, being of a version that knows of no orders: pier-2/2;");
        paused.Says("1 event had begun, and is finished");
        await SaysAsync(broker, "pier-3/3", heard: 1, Receives("fares"));
        var resumed = await courier.RunAsync("resume", "fares");
        Assert.Equal(4, resumed.ExitCode);
        Assert.Contains("queue fares is resumed", resumed.Output, StringComparison.Ordinal);
        Assert.Contains("worker pier-3/3 has not said so yet; it was seen ", resumed.Output, StringComparison.Ordinal);
        var workers = JsonNode.Parse(
            (await courier.RunAsync("resume", "notices", "--json")).Output)!["workers"]!;
        Assert.Equal("pier-4/4", (string?)workers["late"]![0]!["worker"]);
        Assert.Empty(workers["obey"]!.AsArray());
    }

    [Fact]
    public async Task What_cannot_be_ordered_is_refused_with_what_could_be()
    {
        await using var broker = await courier.MakeBrokerAsync("fares");
        await SaysAsync(broker, "pier-1/1", heard: 0, Receives("fares"));
        (await courier.RunAsync("pause")).Fails(2, "name a queue, or say --outbox");
        (await courier.RunAsync("pause", "fares", "--outbox")).Fails(2, "name a queue, or say --outbox");
        (await courier.RunAsync("pause", "fare")).Fails(1, "did you mean fares?");
        (await courier.RunAsync("pause", "fares", "--for", "0s")).Fails(2, "--for must be from 1s to 365d");
        (await courier.RunAsync("pause", "fares", "--for", "2h", "--until", "14:00")).Fails(2, "not both");
        (await courier.RunAsync("pause", "fares", "--until", "2020-01-01")).Fails(2, "has passed");
        (await courier.RunAsync("steer", "fares")).Fails(2, "say how they are to receive");
        (await courier.RunAsync("steer", "fares", "--end", "--parallel", "2")).Fails(2, "say how they are to receive");
        (await courier.RunAsync("steer", "fares", "--parallel", "4000")).Fails(2, "Parallel must be 1 to 1,000");
        (await courier.RunAsync("steer", "fares", "--prefetch", "some")).Fails(2, "neither a number nor");
        (await courier.RunAsync("steer", "fares", "--parallel", "2", "--worker", "pier-9/9"))
            .Fails(1, "no worker 'pier-9/9' is in the register; there are pier-1/1");
        (await courier.RunAsync("drain")).Fails(2, "name workers, or a --host");
        (await courier.RunAsync("drain", "pier-1/1", "--host", "pier-1")).Fails(2, "not both");
        (await courier.RunAsync("drain", "--host", "pier-9")).Fails(1, "no worker on host 'pier-9'");
        Assert.DoesNotContain(
            "by hand", (await courier.RunAsync("status")).Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Workers_are_steered_and_those_that_cannot_say_why()
    {
        await using var broker = await courier.MakeBrokerAsync("fares");
        await SaysAsync(broker, "pier-1/1", heard: 1, Receives("fares") with { Parallel = 8, Steering = "parallel 8" });
        await SaysAsync(
            broker, "pier-2/2", heard: 1, Receives("fares") with { SteeringProblem = "Prefetch must be …" });
        var steered = await courier.RunAsync(
            "steer", "fares", "--parallel", "8", "--max-per-second", "2.5", "--for", "2h", "--by", "ada");
        Assert.Equal(1, steered.ExitCode);
        Assert.Contains("workers of queue fares are to receive with parallel 8, at most 2.5 a second until 20",
            steered.Output, StringComparison.Ordinal);
        Assert.Contains("1 worker obeys: pier-1/1", steered.Output, StringComparison.Ordinal);
        Assert.Contains("wrong worker pier-2/2 does not, and goes on as before: Prefetch must be …", steered.Output,
            StringComparison.Ordinal);
        (await courier.RunAsync("status")).Says(
            "worker-steered: all workers of queue fares are to receive with parallel 8, at most 2.5 a second by hand "
            + "(ada; ");
        await SaysAsync(broker, "pier-1/1", heard: 3, Receives("fares"));
        (await courier.RunAsync("steer", "fares", "--worker", "pier-1/1", "--prefetch", "7"))
            .Says("worker pier-1/1 of queue fares is to receive with prefetch 7 until ");
        (await courier.RunAsync("steer", "fares", "--worker", "pier-1/1", "--end"))
            .Says("worker pier-1/1 of queue fares is to receive as settings say");
    }

    [Fact]
    public async Task A_drained_host_is_waited_for_until_it_is_idle()
    {
        await using var broker = await courier.MakeBrokerAsync("fares");
        var busy = Receives("fares") with { InHand = 3, IsHeld = true };
        await SaysAsync(broker, "pier-1/1", heard: 9, busy);
        await SaysAsync(broker, "pier-1/2", heard: 9, busy with { InHand = 0 });
        await SaysAsync(broker, "pier-2/1", heard: 9, Receives("fares"));
        var late = await courier.RunAsync("drain", "--host", "pier-1", "--limit", "1s");
        Assert.Equal(4, late.ExitCode);
        Assert.Contains("2 workers take no more: pier-1/1, pier-1/2\npier-1/2 is idle\n", late.Output,
            StringComparison.Ordinal);
        Assert.Contains("note  worker pier-1/1 still has 3 events in hand", late.Output, StringComparison.Ordinal);
        Assert.Contains("worker-drained: worker pier-1/1 takes no more by hand",
            (await courier.RunAsync("status")).Output, StringComparison.Ordinal);

        var drained = courier.RunAsync("drain", "pier-1/1");
        await SaysAsync(broker, "pier-1/1", heard: 9, busy with { InHand = 0 });
        (await drained).Says("pier-1/1 is idle");
        (await courier.RunAsync("drain", "pier-1/1", "pier-1/2", "--end"))
            .Says("2 workers take events again: pier-1/1, pier-1/2");
    }

    [Fact]
    public async Task A_relay_is_paused_at_its_store()
    {
        await using var store = new SqliteEngine().CreateStore(new("sqlite", courier.StoreFile), TimeProvider.System);
        await store.PrepareAsync(create: true);
        (await courier.RunAsync("pause", "--outbox")).Fails(2, "which store?");
        (await courier.RunAsync("pause", "--outbox", "--store", courier.Store, "--for", "3h")).Says(
            $"the relay of {courier.Store} is paused until 20");
        var status = await courier.RunAsync("status", "--store", courier.Store);
        status.Says(", and is paused by hand");
        status.Says("relay-paused: the relay of ");
        Assert.Contains("relay-paused", (await courier.RunAsync("status", "--json", "--store", courier.Store)).Output,
            StringComparison.Ordinal);
        (await courier.RunAsync("resume", "--outbox", "--store", courier.Store)).Says("is resumed; 0 waiting");
        Assert.DoesNotContain("by hand", (await courier.RunAsync("status", "--store", courier.Store)).Output,
            StringComparison.Ordinal);
    }
}
