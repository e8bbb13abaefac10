using GentleCourier.Bench;
using GentleCourier.Bench.Postgres;

// usage: GentleCourier.Bench [NAME …] [--rounds N]
//        GentleCourier.Bench prefetch | scale | wake | idle | memory | postgres | watch | telemetry
//        GentleCourier.Bench amqp [EVENTS] | amqp-port [EVENTS] [apart] | amqp-far | later [EVENTS]
//        GentleCourier.Bench postgres-long [EVENTS] | status [EVENTS] | retention [EVENTS]
// Each benchmark runs in turn with its bare twin, N times after a warm-up; what counts is the ratio within a round,
// since both halves of a round see the same machine.
if (args is [var measurement, ..] && Measurements.Find(measurement) is { } measure) return await measure(args[1..]);

var rounds = 7;
var names = new List<string>();
for (var i = 0; i < args.Length; i++)
{
    if (args[i] == "--rounds") rounds = int.Parse(args[++i]);
    else names.Add(args[i]);
}

IBenchmark[] all =
[
    new OutboxCost(smallest: false), new OutboxCost(smallest: true), new RelayRate(), new ReceiveRate(1_000),
        new ReceiveRate(1_000_000),
    new FullJourney(0), new FullJourney(1_000_000),
    new PostgresOutbox(smallest: false), new PostgresOutbox(smallest: true), new ContextOutbox(),
        new PostgresRelay(oneDatabase: false), new PostgresRelay(oneDatabase: true), new PostgresReceive(1_000),
        new PostgresReceive(1_000_000), new PostgresHeldSnapshot(),
    new PostgresReceive(1_000_000, leased: false), new PostgresJourney(),
];
if (names.Find(name => all.All(b => b.Name != name)) is { } unknown)
{
    Console.Error.WriteLine($"no benchmark '{unknown}'; there are {string.Join(", ", all.Select(b => b.Name))}");
    return 2;
}

Console.WriteLine(
    $"{"benchmark",-14} {"events",8} {"ours/s",10} {"bare/s",10} {"ratio: median",14} {"min",6} {"max",6}   what");
foreach (var benchmark in all.Where(b => names.Count == 0 || names.Contains(b.Name)))
{
    var ours = new List<double>();
    var bare = new List<double>();
    for (var round = -1; round < rounds; round++)
    {
        var b = await RunAsync(benchmark.BareAsync);
        var o = await RunAsync(benchmark.OursAsync);
        if (round < 0) continue;
        ours.Add(o);
        bare.Add(b);
    }
    var ratios = ours.Zip(bare, (o, b) => o / b).Order().ToList();
    Console.WriteLine(
        $"{benchmark.Name,-14} {benchmark.Events,8:N0} {Median(ours),10:N0} {Median(bare),10:N0} "
        + $"{Median(ratios),14:0.00} {ratios[0],6:0.00} {ratios[^1],6:0.00}   {benchmark.What}");
}
return 0;

static async Task<double> RunAsync(Func<Workshop, Task<double>> run)
{
    await using var workshop = new Workshop();
    return await run(workshop);
}

static double Median(IEnumerable<double> values)
{
    var sorted = values.Order().ToList();
    return sorted[sorted.Count / 2];
}
