using System.CommandLine;
using GentleCourier.Engines;

namespace GentleCourier.Cli;

/// <summary><c>courier schema</c>: the tables of stores and brokers, and the queues and routes of a broker.</summary>
internal static class SchemaCommand
{
    public static Command Create()
    {
        var command = new Command(
            "schema",
            """
            Prints or makes the tables of a store or a broker. Making them is safe to repeat, and upgrades older ones.

            Examples:
              courier schema print store --engine sqlite
              courier schema apply store --store sqlite:harbour.db
              courier schema apply broker --broker sqlite:broker.db --queue fares \
                --route skerryline.passenger-boarded=fares
            """)
        {
            CreatePrint(),
            CreateApply(),
        };
        return command;
    }

    private static Command CreatePrint()
    {
        var command = new Command("print", "Prints the statements, for you to read or for your own migrations.");
        var part = Part();
        var engine = new Option<string>("--engine")
        {
            HelpName = "NAME", Description = "For which engine.", DefaultValueFactory = _ => "sqlite",
        };
        command.Arguments.Add(part);
        command.Options.Add(engine);
        command.SetAction(result =>
        {
            var chosen = Connections.Engine(result.GetValue(engine)!);
            Console.Write(result.GetValue(part) == "store" ? chosen.StoreSchema : chosen.BrokerSchema);
        });
        return command;
    }

    private static Command CreateApply()
    {
        var command = new Command("apply", "Makes the tables that are missing, and for a broker, queues and routes.");
        var part = Part();
        var queues = new Option<string[]>("--queue")
        {
            HelpName = "NAME", Description = "With broker: a queue to make; may be repeated.",
        };
        var routes = new Option<string[]>("--route")
        {
            HelpName = "TYPE=QUEUE",
            Description = "With broker: a route to make, and its queue; may be repeated.",
        };
        var inOrder = new Option<string[]>("--in-key-order")
        {
            HelpName = "NAME",
            Description = "With broker: a queue to make, whose events of one partition key are handled one at a time "
                + "and in order; may be repeated.",
        };
        command.Arguments.Add(part);
        command.Options.Add(queues);
        command.Options.Add(routes);
        command.Options.Add(inOrder);
        var connections = new Connections().AddTo(command);
        command.SetAction(async (result, cancel) =>
        {
            if (result.GetValue(part) == "store")
            {
                if (result.GetValue(queues) is { Length: > 0 } || result.GetValue(routes) is { Length: > 0 }
                    || result.GetValue(inOrder) is { Length: > 0 })
                    throw new UsageException("a store has no queues or routes; they are the broker's");
                await using var store = connections.Store(result);
                await store.PrepareAsync(create: true, cancel);
                Console.WriteLine($"the store in {store.DisplayName} is up to date");
                return;
            }

            await using var broker = connections.Broker(result);
            var wanted = (result.GetValue(routes) ?? []).Select(ParseRoute).ToList();
            var inKeyOrder = result.GetValue(inOrder) ?? [];
            var named = (result.GetValue(queues) ?? []).Concat(wanted.Select(r => r.Queue)).Concat(inKeyOrder)
                .Distinct(StringComparer.Ordinal).ToList();
            await broker.PrepareAsync(
                new Topology(named, wanted) { InKeyOrder = inKeyOrder }, create: true, cancel);
            var topology = broker.Reports is { } reports ? await reports.ReadTopologyAsync(cancel)
                : new Topology(named, []);
            Console.WriteLine(
                $"the broker in {broker.DisplayName} is up to date: {Plain.Count(topology.Queues.Count, "queue")}, "
                + Plain.Count(topology.Routes.Count, "route"));
        });
        return command;
    }

    private static Argument<string> Part()
    {
        var part = new Argument<string>("PART") { Description = "store or broker." };
        part.AcceptOnlyFromAmong("store", "broker");
        return part;
    }

    private static Route ParseRoute(string text) => text.Split('=') is [{ Length: > 0 } type, { Length: > 0 } queue]
        ? new Route(type, queue)
        : throw new UsageException($"--route must be TYPE=QUEUE, but is '{text}'");
}
