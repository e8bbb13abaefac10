using System.CommandLine;
using System.Text.Json;
using System.Text.Json.Nodes;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Cli;

/// <summary><c>courier publish</c>: a test event, straight to the broker.</summary>
internal static class PublishCommand
{
    // Receivers take no name twice, since two readers may then read two things.
    private static readonly JsonDocumentOptions Once = new() { AllowDuplicateProperties = false };

    private const string Help = """
        Publishes one test event to the queues that its type is routed to. The input is a CloudEvents 1.0 event in
        JSON, or, with --type, only its data; without a file it is read from standard input.

        Examples:
          courier publish event.json --broker sqlite:broker.db
          echo '{"sailing":"0614-Old-Light","onBoard":140,"limit":150}' |
            courier publish --type skerryline.deck-nearly-full
        """;

    public static Command Create()
    {
        var command = new Command("publish", Help);
        var file = new Argument<string>("FILE")
        {
            Description = "What to publish; - is standard input.", DefaultValueFactory = _ => "-",
        };
        var type = new Option<string?>("--type")
        {
            HelpName = "TYPE", Description = "The input is only the data of an event of this type.",
        };
        var source = new Option<string>("--source")
        {
            HelpName = "SOURCE",
            Description = "With --type: the event's source.", DefaultValueFactory = _ => "/courier/publish",
        };
        var subject = new Option<string?>("--subject")
        {
            HelpName = "TEXT", Description = "With --type: the event's subject.",
        };
        var key = new Option<string?>("--partition-key")
        {
            HelpName = "KEY", Description = "With --type: the event's ordering key.",
        };
        var id = new Option<string?>("--id")
        {
            HelpName = "ID", Description = "With --type: the event's id; a new one by default.",
        };
        var queue = new Option<string[]>("--queue")
        {
            HelpName = "NAME",
            Description = "To which queue, where the broker does not know routes, as by AMQP 1.0; may be repeated.",
        };
        var json = Plain.JsonOption();
        command.Arguments.Add(file);
        foreach (var option in new Option[] { type, source, subject, key, id, queue, json })
            command.Options.Add(option);
        var connections = new Connections().AddTo(command, store: false);
        command.SetAction(async (result, cancel) =>
        {
            await using var broker = connections.Broker(result);
            var input = await ReadAsync(result.GetValue(file)!, cancel);
            var encoded = result.GetValue(type) is { } name
                ? Wrap(input, name, result.GetValue(source)!, result.GetValue(subject), result.GetValue(key),
                    result.GetValue(id) ?? Guid.CreateVersion7().ToString())
                : input;
            var @event = Check(encoded, result.GetValue(type) is null);

            var queues = await PublishAsync(
                broker, new EncodedEvent(@event.Id, @event.Type, @event.PartitionKey, encoded),
                result.GetValue(queue) ?? [], cancel);
            if (result.GetValue(json)) Plain.PrintJson(new { @event.Id, @event.Type, @event.Source, queues });
            else Console.WriteLine($"published {@event.Type} {@event.Id} to {string.Join(", ", queues)}");
        });
        return command;
    }

    /// <returns>The queues that got it.</returns>
    private static async Task<IReadOnlyList<string>> PublishAsync(
        IBroker broker, EncodedEvent @event, string[] queues, CancellationToken cancel)
    {
        var knowsRoutes = broker.Abilities.HasFlag(BrokerAbilities.Routes);
        if (knowsRoutes != (queues.Length == 0))
            throw new UsageException(knowsRoutes
                ? $"{broker.DisplayName} knows itself where events go; leave out --queue"
                : $"{broker.DisplayName} does not know where events go; say --queue");
        var outcomes = await broker.PublishAsync(
            knowsRoutes ? [@event] : [.. queues.Select(queue => @event with { Address = queue })], cancel);
        var notTaken = outcomes.Select((outcome, i) => outcome.Fate == PublishFate.Taken ? null
            : (knowsRoutes ? "" : $" by queue '{queues[i]}'") + $": {outcome.Reason}").OfType<string>().ToList();
        if (notTaken.Count > 0) throw new CourierException($"the event was not taken{string.Join("; ", notTaken)}");
        if (!knowsRoutes) return queues;
        var topology = await Connections.ReportsOf(broker).ReadTopologyAsync(cancel);
        return [.. topology.Routes.Where(r => r.Type == @event.Type).Select(r => r.Queue)];
    }

    private static async Task<byte[]> ReadAsync(string file, CancellationToken cancel)
    {
        if (file != "-")
        {
            return File.Exists(file) ? await File.ReadAllBytesAsync(file, cancel)
                : throw new CourierException($"cannot read {file}: there is no such file");
        }
        await using var input = Console.OpenStandardInput();
        using var buffer = new MemoryStream();
        await input.CopyToAsync(buffer, cancel);
        return buffer.ToArray();
    }

    private static byte[] Wrap(byte[] data, string type, string source, string? subject, string? key, string id)
    {
        try
        {
            var attributes = new JsonObject
            {
                ["specversion"] = "1.0", ["id"] = id, ["source"] = source, ["type"] = type,
                ["time"] = DateTimeOffset.UtcNow, ["datacontenttype"] = "application/json",
            };
            if (subject is not null) attributes["subject"] = subject;
            if (key is not null) attributes["partitionkey"] = key;
            attributes["data"] = JsonNode.Parse(data, documentOptions: Once);
            return JsonSerializer.SerializeToUtf8Bytes(attributes);
        }
        catch (JsonException e)
        {
            throw new CourierException($"the data is not JSON: {e.Message}");
        }
    }

    private static CourierEvent Check(byte[] encoded, bool whole)
    {
        try
        {
            var @event = CourierEvent.Read(encoded);
            using (JsonDocument.Parse(encoded, Once)) return @event;
        }
        catch (JsonException e)
        {
            throw new CourierException($"receivers would not take it: {e.Message}");
        }
        catch (UnreadableEventException e)
        {
            throw new CourierException($"the input is not a CloudEvents event: {e.Message}" + (
                whole ? "; say --type TYPE if it is only the data of one" : ""));
        }
    }
}
