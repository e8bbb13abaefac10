using System.Globalization;

namespace GentleCourier.Bench.Budgets;

/// <summary>
/// What an event takes on its whole journey, by part and by what is counted: at several rates, on each engine, beside
/// the drivers alone, and where a folder of another build is given, beside that, in turn.
/// </summary>
internal static class BudgetCommand
{
    private const string Help = """
        usage: budget [sqlite|postgres|amqp …] [--rates 1,100,1000,0] [--concurrency 1,8] [--seconds 5] [--rounds 1]
                      [--against FOLDER] [--statements]
        A rate of 0 is as fast as it goes. FOLDER: where another build's GentleCourier.Bench is.
        """;

    public static async Task<int> RunAsync(string[] args)
    {
        List<string> engines = [];
        int[] rates = [1, 100, 1000, 0], concurrency = [1, 8];
        var (seconds, rounds, texts, against) = (5, 1, false, (string?)null);
        for (var i = 0; i < args.Length; i++)
        {
            if (Load.Engines.Contains(args[i])) engines.Add(args[i]);
            else if (args[i] == "--statements") texts = true;
            else if (i + 1 == args.Length) return Refuse(args[i]);
            else if (args[i] == "--rates") rates = Numbers(args[++i]);
            else if (args[i] == "--concurrency") concurrency = Numbers(args[++i]);
            else if (args[i] == "--seconds") seconds = Numbers(args[++i])[0];
            else if (args[i] == "--rounds") rounds = Numbers(args[++i])[0];
            else if (args[i] == "--against") against = Path.GetFullPath(args[++i]);
            else return Refuse(args[i]);
        }
        List<Build> builds = [new("ours", null, false)];
        if (against is not null) builds.Add(new("against", against, false));
        builds.Add(new("bare", null, true));
        foreach (var engine in engines.Count > 0 ? engines : [.. Load.Engines])
        {
            await using var place = Place.Of(engine);
            foreach (var many in concurrency)
                foreach (var rate in rates)
                    await MeasureAsync(place, new(engine, rate, many, many), builds, seconds, rounds, texts);
        }
        return 0;
    }

    private static async Task MeasureAsync(
        Place place, Load load, List<Build> builds, int seconds, int rounds, bool texts)
    {
        var runs = builds.ToDictionary(b => b, _ => new List<Dictionary<string, double>>());
        for (var round = 0; round < rounds; round++)
            foreach (var build in builds)
                runs[build].Add(await BudgetRun.MeasureAsync(place, build, load, seconds, texts));
        BudgetTable.Print(load, builds, runs);
        if (texts) BudgetTable.PrintStatements(runs[builds[0]][^1]);
    }

    private static int Refuse(string what)
    {
        Console.Error.WriteLine($"'{what}' is not understood here\n{Help}");
        return 2;
    }

    private static int[] Numbers(string text) =>
        [.. text.Split(',').Select(n => int.Parse(n, NumberStyles.None, CultureInfo.InvariantCulture))];
}
