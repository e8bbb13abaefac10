using System.Globalization;
using GentleCourier.Bench.Budgets;

namespace GentleCourier.Bench;

/// <summary>
/// Each benchmark in turn with its bare twin, and where another build's folder is given, with that build: each build is
/// a process of its own. What counts is the ratio within a round, since all of a round see the same machine.
/// </summary>
internal static class Rounds
{
    private const string Help = """
        usage: [NAME …] [--rounds 20] [--against FOLDER]
        FOLDER: where another build's GentleCourier.Bench is.
        """;

    public static async Task<int> RunAsync(string[] args)
    {
        var (rounds, against, names) = (20, (string?)null, new List<string>());
        for (var i = 0; i < args.Length; i++)
        {
            if (args[i] == "--rounds" && i + 1 < args.Length)
                rounds = int.Parse(args[++i], NumberStyles.None, CultureInfo.InvariantCulture);
            else if (args[i] == "--against" && i + 1 < args.Length) against = Path.GetFullPath(args[++i]);
            else names.Add(args[i]);
        }
        if (names.Find(name => Benchmarks.All.All(b => b.Name != name)) is { } unknown)
        {
            Console.Error.WriteLine(
                $"no benchmark '{unknown}'; there are {string.Join(", ", Benchmarks.All.Select(b => b.Name))}\n{Help}");
            return 2;
        }
        await using var here = new Child(null, "rounds");
        await using var there = against is null ? null : new Child(against, "rounds");
        Console.WriteLine(
            $"{"benchmark",-14} {"events",8} {"ours/s",9} {"bare/s",9}  {"ours to bare",-21}"
            + (there is null ? "" : $" {"ours to the other build",-32}") + " what");
        foreach (var benchmark in Benchmarks.All.Where(b => names.Count == 0 || names.Contains(b.Name)))
            await RunAsync(benchmark, rounds, here, there);
        return 0;
    }

    /// <summary>Runs what it is told to, and says how many events a second it was.</summary>
    public static async Task<int> ServeAsync()
    {
        while (await Console.In.ReadLineAsync() is { } line)
        {
            var benchmark = Benchmarks.All.Single(b => b.Name == line.Split(' ')[0]);
            await using var workshop = new Workshop();
            var rate = line.EndsWith("bare", StringComparison.Ordinal)
                ? await benchmark.BareAsync(workshop) : await benchmark.OursAsync(workshop);
            Console.WriteLine(rate.ToString("R", CultureInfo.InvariantCulture));
        }
        return 0;
    }

    private static async Task RunAsync(IBenchmark benchmark, int rounds, Child here, Child? there)
    {
        List<double> ours = [], bare = [], other = [];
        // The first is to warm up.
        for (var round = -1; round < rounds; round++)
        {
            var b = await RateAsync(here, $"{benchmark.Name} bare");
            // Whoever is second finds another machine: they take turns at it.
            var t = 0.0;
            if (there is not null && round % 2 == 0) t = await RateAsync(there, benchmark.Name);
            var o = await RateAsync(here, benchmark.Name);
            if (there is not null && round % 2 != 0) t = await RateAsync(there, benchmark.Name);
            if (round < 0) continue;
            ours.Add(o);
            bare.Add(b);
            other.Add(t);
        }
        var against = "";
        if (there is not null)
        {
            var interval = Interval.Of(ours.Zip(other, (o, t) => o / t));
            var seen = interval.TellsADifference
                ? $"{interval}" : $"no difference, {interval.Low:0.00} to {interval.High:0.00}";
            against = $" {seen,-32}";
        }
        Console.WriteLine(
            $"{benchmark.Name,-14} {benchmark.Events,8:N0} {Measurements.Median(ours),9:N0} "
            + $"{Measurements.Median(bare),9:N0}  {Interval.Of(ours.Zip(bare, (o, b) => o / b)),-21}{against} "
            + benchmark.What);
    }

    private static async Task<double> RateAsync(Child build, string what) =>
        double.Parse(await build.TellAsync(what), CultureInfo.InvariantCulture);
}
