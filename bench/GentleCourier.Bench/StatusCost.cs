using System.Diagnostics;
using System.Globalization;
using GentleCourier.Bench.Postgres;
using GentleCourier.Engines;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Bench;

/// <summary>
/// What it costs to read how things are with very many events waiting: with nothing else going on, and while two
/// workers receive as fast as they can.
/// </summary>
internal static class StatusCost
{
    private const int Reads = 100, Commands = 9;

    /// <param name="args">How many events, by default ten million.</param>
    public static async Task<int> RunAsync(string[] args)
    {
        var events = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 10_000_000;
        Console.WriteLine(
            $"{events:N0} events wait; the command's time is beyond that of `courier schema print store`");
        Console.WriteLine($"{"",-22} {"read, median",14} {"longest",12} {"command",12}");

        await using (var server = new ServerWorkshop())
        {
            await server.FillAsync("status", events);
            var address = ServerWorkshop.Address("status");
            await MeasureAsync("PostgreSQL", await server.BrokerAsync(address), address, services =>
                server.Host(ServerWorkshop.Address("inbox"), address, Receive, services: services));
        }
        await using (var workshop = new Workshop())
        {
            workshop.Fill(events);
            await MeasureAsync("SQLite", await workshop.BrokerAsync(), $"sqlite:{workshop.BrokerFile}",
                services => workshop.Host(Receive, services: services));
        }
        return 0;
    }

    private static void Receive(CourierBuilder courier) => courier.Receive("taps", queue =>
    {
        (queue.Options.Prefetch, queue.Options.Inbox) = (500, false);
        queue.Handle<Tap, CountingReceiver>();
    });

    private static async Task MeasureAsync(
        string engine, IBroker broker, string address, Func<Action<IServiceCollection>, IHost> build)
    {
        await PrintAsync($"{engine}, idle");
        var counter = new Counter();
        for (var i = 0; i < 2; i++) await build(services => services.AddSingleton(counter)).StartAsync();
        // Long enough that what was settled lies dead at the head of the queue.
        while (counter.Count < 300_000) await Task.Delay(50);
        await PrintAsync($"{engine}, under load");

        async Task PrintAsync(string what)
        {
            var reads = new List<double>();
            for (var i = 0; i < Reads; i++)
            {
                var began = Stopwatch.GetTimestamp();
                await broker.Reports!.ReadFiguresAsync();
                reads.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
                await Task.Delay(10);
            }
            // In turn, so that both see the same machine.
            var beyond = new List<double>();
            for (var i = 0; i < Commands; i++)
            {
                var bare = await CommandAsync("schema", "print", "store");
                beyond.Add(await CommandAsync("status", "--broker", address) - bare);
            }
            reads.Sort();
            beyond.Sort();
            Console.WriteLine($"{what,-22} {reads[Reads / 2],11:0.0} ms {reads[^1],9:0.0} ms "
                + $"{beyond[Commands / 2],9:0} ms");
        }
    }

    private static async Task<double> CommandAsync(params string[] arguments)
    {
        var here = AppContext.BaseDirectory.TrimEnd(Path.DirectorySeparatorChar);
        var command = Path.Combine(here, "..", "..", "GentleCourier.Cli", Path.GetFileName(here), "courier.dll");
        var start = new ProcessStartInfo("dotnet", [command, .. arguments]) 
        {
            UseShellExecute = false, RedirectStandardOutput = true,
        };
        var began = Stopwatch.GetTimestamp();
        using var process = Process.Start(start)!;
        await process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync();
        return process.ExitCode == 0 ? Stopwatch.GetElapsedTime(began).TotalMilliseconds
            : throw new InvalidOperationException($"courier {arguments[0]} ended with exit code {process.ExitCode}");
    }
}
