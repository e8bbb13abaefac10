using System.Net;
using System.Net.Sockets;
using GentleCourier.Cli.Tests.Reading;

namespace GentleCourier.Cli.Tests;

/// <summary>What the guide says, done as a reader does it who only copies.</summary>
public sealed class GuideTests
{
    private static readonly string Guide =
        File.ReadAllText(Path.Combine(Packages.RepositoryRoot(), "docs/guide.md"));

    /// <summary>
    /// In an empty folder, with the packages alone, and the commands, files and addresses of the text.
    /// </summary>
    [Fact]
    public async Task The_first_programs_handle_their_first_events()
    {
        using var courier = new Courier();
        var first = Step.In(Guide, "## A first program", "## 1. Connect");
        var further = Step.In(Guide, "### With EF Core", "## 2. Publish").Concat(Step.In(Guide, "## 6. Test", null))
            .ToList();
        Assert.Equal(["Gate/Program.cs", "Fares/Program.cs", "Night/Program.cs", "Deck/Program.cs",
            "Crew.Data/CrewContext.cs", "Crew/Program.cs", "Fares.Tests/Program.cs", "Deck.Tests/Program.cs",
            "Gate.Tests/Program.cs", "Crew.Tests/Program.cs"],
            first.Concat(further).OfType<Step.Write>().Select(w => w.File));
        // Short enough to be typed in five minutes.
        var lines = first.OfType<Step.Write>().Take(2).SelectMany(w => w.Text.Split('\n')).Where(l => l.Trim() != "");
        Assert.InRange(lines.Count(), 1, 40);
        using var reader = new Reader(courier.Folder, Packages.Surroundings(courier.Folder));
        await reader.FollowAsync(first.Concat(further).Select(step => step switch
        {
            // What has been built is packed, rather than built once more.
            Step.Type(var commands) => new Step.Type(OnFreePorts(commands.Replace(
                "~/gentle-courier/eng/pack.sh packages ", Packages.PackInto("packages", Packages.NewVersion()),
                StringComparison.Ordinal))),
            Step.Read(var shown) => new Step.Read([.. shown.Select(OnFreePorts)]),
            _ => step,
        }));
    }

    /// <summary>Somebody may have the text's own ports on the machine of a test.</summary>
    private static string OnFreePorts(string text) => Ports.Aggregate(
        text, (all, port) => all.Replace($":{port.InText}", $":{port.Free}", StringComparison.Ordinal));

    private static readonly (int InText, int Free)[] Ports =
        [.. Enumerable.Range(5080, 3).Select(p => (p, FreePort()))];

    private static int FreePort()
    {
        using var probe = new TcpListener(IPAddress.Loopback, 0);
        probe.Start();
        return ((IPEndPoint)probe.LocalEndpoint).Port;
    }

    /// <summary>They may find nothing to do here; but there is no slip in them.</summary>
    [Fact]
    public async Task Each_command_that_the_guide_shows_is_one_that_the_program_knows()
    {
        using var courier = new Courier();
        foreach (var part in new[] { "store", "broker" })
            await courier.RunAsync("schema", "apply", part, $"--{part}",
                part == "store" ? courier.Store : courier.Broker);
        (courier.Environment["COURIER_BROKER"], courier.Environment["COURIER_STORE"]) = (courier.Broker, courier.Store);
        var commands = Step.In(Guide, "## 1. Connect", null).OfType<Step.Type>()
            .SelectMany(t => t.Commands.Split('\n')).Where(c => c.StartsWith("courier ", StringComparison.Ordinal))
            .ToList();
        Assert.InRange(commands.Count, 8, 100);
        foreach (var command in commands)
        {
            // What stands in quotation marks is one word.
            var words = command.Split('#')[0].Split('"').SelectMany(
                (part, i) => i % 2 == 1 ? [part] : part.Split(' ', StringSplitOptions.RemoveEmptyEntries)).Skip(1);
            Assert.DoesNotContain(
                "Try `courier", (await courier.RunAsync([.. words])).Errors, StringComparison.Ordinal);
        }
    }
}
