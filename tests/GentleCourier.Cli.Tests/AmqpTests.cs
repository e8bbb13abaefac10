using GentleCourier.Engines;
using GentleCourier.Servers;
using GentleCourier.Sqlite;

namespace GentleCourier.Cli.Tests;

/// <summary>The command on a broker that leaves most to the companions of those who receive.</summary>
public sealed class AmqpTests : IDisposable
{
    private const string Tap =
        """{"specversion":"1.0","id":"gate-1/1","source":"/t","type":"test.tap","data":{"number":1} }""";

    private readonly PrivateAmqp server = new(Directory.CreateTempSubdirectory("courier-amqp-").FullName);
    private readonly Courier courier = new();

    [Fact]
    public async Task It_shows_what_can_be_known_publishes_to_queues_and_sends_letters_back()
    {
        string[] broker = ["--broker", $"{server.Bare}/?queue=/amq/queue/{{queue}}"];
        string[] store = ["--store", courier.Store];
        string[] both = [.. broker, .. store];
        (await courier.RunAsync(Tap, ["publish", .. broker, "--queue", "taps"]))
            .Fails(1, "it refuses the user 'courier'");
        courier.Environment["AMQP_PASSWORD"] = server.Password;

        // What an operator does: queues by the broker's means, tables by the command.
        (await courier.RunAsync("schema", "print", "broker", "--engine", "amqp")).Says("a durable queue");
        (await courier.RunAsync(["schema", "apply", "store", .. store])).Says("is up to date");
        (await courier.RunAsync(["schema", "apply", "broker", .. both, "--queue", "taps"]))
            .Fails(1, "queue 'taps' ('/amq/queue/taps') does not exist");
        server.Create("taps");
        (await courier.RunAsync(["schema", "apply", "broker", .. both, "--queue", "taps"])).Says("is up to date");

        (await courier.RunAsync(Tap, ["publish", .. broker])).Fails(2, "does not know where events go; say --queue");
        (await courier.RunAsync(Tap, ["publish", .. broker, "--queue", "typo"])).Fails(1, "amqp:not-found");
        (await courier.RunAsync(Tap, ["publish", .. broker, "--queue", "taps"]))
            .Says("published test.tap gate-1/1 to taps");
        (await courier.RunAsync(["status", .. broker])).Fails(2, "name the stores of those who receive from it");
        var status = await courier.RunAsync(["status", .. both]);
        status.Says("workers: none receives");
        status.Says("queue-unreceived: queue taps has 1 event waiting");
        Assert.Contains("as courier, without TLS", (await courier.RunAsync(["doctor", .. both])).Output,
            StringComparison.Ordinal);

        (await courier.RunAsync(["look", .. both, "taps"])).Says("cannot show the events that wait in queue 'taps'");
        var forScripts = await courier.RunAsync(["look", .. both, "taps", "--json"]);
        Assert.Contains("cannot show the events", forScripts.Errors, StringComparison.Ordinal);

        // A pause is written down where receivers find it; the broker alone could not be told.
        (await courier.RunAsync(["pause", .. broker, "taps"])).Fails(2, "name the stores of those who receive");
        (await courier.RunAsync(["pause", .. both, "typo"])).Fails(1, "queue 'typo' does not exist");
        (await courier.RunAsync(["pause", .. both, "taps", "--by", "ada"])).Says("queue taps is paused");
        (await courier.RunAsync(["status", .. both])).Says("queue taps is paused by hand (ada; ");
        (await courier.RunAsync(["resume", .. both, "taps"])).Says("queue taps is resumed");

        // A receiver sets one aside.
        await using (var companion = new SqliteEngine().CreateCompanion(
            new EngineAddress("sqlite", courier.StoreFile), TimeProvider.System))
        {
            await companion.TakeOver!.TakeOverAsync("taps", "pier/7",
                [new TakenOver("""{"id":"2"}"""u8.ToArray(), 1, null, new Outcome.Rejected("no such pier", null))]);
        }
        (await courier.RunAsync(["dead-letters", .. both])).Says("no such pier");
        (await courier.RunAsync(["dead-letters", "send-back", .. both, "--queue", "taps", "--yes"])).Says("1");
        (await courier.RunAsync(["status", .. both])).Says("queue-unreceived: queue taps has 2 events waiting");
    }

    public void Dispose()
    {
        courier.Dispose();
        server.Dispose();
    }
}
