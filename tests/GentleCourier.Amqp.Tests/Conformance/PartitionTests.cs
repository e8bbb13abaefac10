using System.Globalization;
using GentleCourier.Conformance;
using GentleCourier.Servers;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Amqp.Tests.Conformance;

/// <summary>
/// Nodes that are cut off, each in a network of its own: what is sent to them, and what they send, is swallowed, and
/// neither side is told. A broker of three, in which each is cut off in turn, is <c>eng/partition.sh</c>.
/// </summary>
public sealed class PartitionTests
{
    private static readonly int Nodes =
        int.Parse(Environment.GetEnvironmentVariable("COURIER_NODES") ?? "1", CultureInfo.InvariantCulture);

    /// <summary>At nodes that the others may lose sight of.</summary>
    private sealed class ApartQuay : Quay
    {
        private readonly List<PrivateAmqp> nodes = [];

        public ApartQuay()
        {
            var folder = Directory.CreateTempSubdirectory("courier-apart-").FullName;
            nodes.Add(new PrivateAmqp(folder, isApart: true));
            for (var n = 2; n <= Nodes; n++)
                nodes.Add(new PrivateAmqp(Path.Combine(folder, $"node-{n}"), nodes[0], isApart: true));
            foreach (var queue in (string[])["taps", "charges"])
                nodes[0].Create(Named(queue)["/amq/queue/".Length..], isReplicated: Nodes > 1);
        }

        public List<PrivateAmqp> All => nodes;

        /// <summary>Any of them; who prefers which is for chance to say.</summary>
        protected override string Address =>
            nodes[0].Address + string.Concat(nodes.Skip(1).Select(n => $",{n.Listens}"));

        protected override string AddressOf(string name) => $"/amq/queue/{name}";

        public override async ValueTask DisposeAsync()
        {
            await base.DisposeAsync();
            foreach (var node in Enumerable.Reverse(nodes)) node.Dispose();
        }
    }

    [Fact]
    public async Task A_node_that_is_cut_off_loses_nothing_and_where_others_are_left_nobody_waits_for_it()
    {
        Assert.SkipUnless(PrivateAmqp.CanBeApart, "no network namespace can be made here (root alone may, with `ip`)");
        var quay = new ApartQuay();
        await using var crossing = new Crossing(quay);
        // Two workers may be called for one event, where it comes again while the first is at it: its effect counts.
        var log = new Log
        {
            OnTap = async (delivery, cancel) => await (await delivery.BeginAsync(cancel)).Connection!.ExecuteAsync(
                "INSERT INTO effect VALUES (@n)", ("@n", delivery.Data.Number)),
        };
        var harbour = await crossing.StartAsync("harbour");
        var fares = new List<IHost>();
        for (var workers = 0; workers < 2; workers++)
            fares.Add(await crossing.StartAsync(
                "fares", courier => courier
                    .PrepareStore(async (store, cancel) =>
                    {
                        await using var connection = await store.OpenConnectionAsync(cancel);
                        await connection.ExecuteAsync("CREATE TABLE IF NOT EXISTS effect (number INTEGER)");
                    })
                    .Receive("taps", queue => queue.Handle<Tap, TapReceiver>()),
                services: services => services.AddSingleton(log)));
        var sent = 0;
        await PublishAsync(200);
        await HandledAsync("before anything is cut");

        foreach (var node in quay.All)
        {
            foreach (var fromNodesAlone in quay.All.Count > 1 ? (bool[])[true, false] : [false])
            {
                node.Cut(fromNodesAlone);
                await PublishAsync(200);
                if (quay.All.Count > 1) await HandledAsync($"while {node.Listens} is cut off ({fromNodesAlone})");
                else await GivenUpAsync();
                node.Mend();
                await HandledAsync($"once {node.Listens} is back");
            }
        }
        Assert.Equal(Enumerable.Range(0, sent), (await EffectsAsync()).Order());

        async Task PublishAsync(int count)
        {
            foreach (var part in Enumerable.Range(sent, count).Chunk(20))
                await harbour.PublishAsync(part.Select(n => new Tap(n)));
            sent += count;
        }

        Task HandledAsync(string when) => Crossing.UntilAsync(
            async () => (await EffectsAsync()).Distinct().Count() == sent, $"all is handled {when}");

        async Task<List<int>> EffectsAsync()
        {
            await using var connection = await fares[0].Store().OpenConnectionAsync();
            await using var command = connection.CreateCommand();
            command.CommandText = "SELECT number FROM effect";
            await using var reader = await command.ExecuteReaderAsync();
            var numbers = new List<int>();
            while (await reader.ReadAsync()) numbers.Add(reader.GetInt32(0));
            return numbers;
        }

        // Its connections are given up as well, since nothing comes: nobody waits for what was lost on them.
        Task GivenUpAsync() => Crossing.UntilAsync(
            async () => (await harbour.Store().ReadOutboxFiguresAsync()) is { Waiting: > 0, LastError: not null },
            "it is said that nothing leaves");
    }
}
