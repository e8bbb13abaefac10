using System.Text.Json;

namespace GentleCourier.Bench.Budgets;

/// <summary>One run of a journey by three processes of one build.</summary>
internal static class BudgetRun
{
    private const int Warm = 3_000;

    /// <returns>By the name of what was counted, behind the name of who did, how much an event took of it.</returns>
    public static async Task<Dictionary<string, double>> MeasureAsync(
        Place place, Build build, Load load, int seconds, bool texts)
    {
        var site = place.Next(build.IsBare);
        string[] rest = [$"{load.Publishers}", $"{load.Parallel}", .. texts ? (string[])["texts"] : []];
        // The publisher makes the store that the relay reads.
        await using var publisher = await StartAsync("publisher");
        await using var relay = await StartAsync("relay");
        await using var receiver = await StartAsync("receiver");
        (string Who, Child Child)[] parts = [("publisher", publisher), ("relay", relay), ("receiver", receiver)];

        await JourneyAsync(1, Warm, rate: 0);
        // What is compiled for good by then, is.
        await Task.Delay(1000);
        var before = place.Read();
        var events = load.Events(seconds);
        var took = await JourneyAsync(Warm + 1, events, load.Rate);
        var counts = new Dictionary<string, double>();
        foreach (var (who, child) in parts) Add(who, await child.EndAsync());
        Add("server", Usage.Difference(before, place.Read()));
        if (load.Rate == 0) counts[Rate] = events / took.TotalSeconds;
        return counts;

        async Task<Child> StartAsync(string role)
        {
            var child = new Child(build.Folder, ["part", build.IsBare ? "bare" : "ours", role, .. rest]);
            // An address may hold a password, and what stands on a command line everybody can read.
            if (await child.TellAsync(JsonSerializer.Serialize(site)) != "ready")
                throw new InvalidOperationException($"the {role} does not start");
            return child;
        }

        async Task<TimeSpan> JourneyAsync(int first, int count, int rate)
        {
            foreach (var (_, child) in parts) await child.TellAsync("begin");
            var began = System.Diagnostics.Stopwatch.GetTimestamp();
            var handled = receiver.TellAsync($"await {count}");
            await publisher.TellAsync($"publish {first} {count} {rate}");
            await handled;
            var time = System.Diagnostics.Stopwatch.GetElapsedTime(began);
            // The last is committed and settled, and marked in the outbox.
            await Task.Delay(200);
            return time;
        }

        void Add(string who, Dictionary<string, double> used)
        {
            foreach (var (name, value) in used)
            {
                if (name is Part.Latency50 or Part.Latency99) counts[name] = value;
                else if (StatementCost.Is(name)) counts[name] = counts.GetValueOrDefault(name) + value / events;
                else if (name.StartsWith(Usage.Exchanges, StringComparison.Ordinal))
                    counts[$"events a {name[Usage.Exchanges.Length..]}"] = events / value;
                else counts[$"{name}: {who}"] = value / events;
            }
        }
    }

    public const string Rate = "events a second";
}

/// <summary>One of those that are compared.</summary>
/// <param name="Name">For people.</param>
/// <param name="Folder">Where its program is; null: here.</param>
/// <param name="IsBare">Without the library.</param>
internal sealed record Build(string Name, string? Folder, bool IsBare);
