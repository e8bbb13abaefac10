using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Spectre.Console;

namespace FerryLine.Demo;

/// <summary>
/// A day far busier than any, in which processes of every kind are killed at random, without warning, and started
/// again: two publishers, two relays, and two workers of each kind. Afterwards it is reckoned event by event.
/// </summary>
internal static class Chaos
{
    private const int TapsOfSailing = 98;
    private static readonly (string Program, string Kind)[] Kinds =
        [("Harbour", "publisher"), ("Harbour", "relay"), ("Fares", "fares"), ("DeckCount", "deck-count"),
            ("Notices", "notices")];

    public sealed record Options(
        string Engine, int Nodes, int Events, int Kills, int ServerKills, int Orders, bool IsLate, int Seed,
        FileInfo? Ledger, DirectoryInfo? Keep);

    public static Task<int> RunAsync(Options options, CancellationToken stop) => Play.WithFilesAsync(
        options.Engine, options.Nodes, options.Keep,
            Play.Limit + TimeSpan.FromSeconds((8 * (options.Kills + options.Orders)) + (60 * options.ServerKills)
                + (options.Events / 25)),
            (files, cancel) => RunAsync(options, files, cancel), stop);

    private static async Task<int> RunAsync(Options options, DemoFiles files, CancellationToken cancel)
    {
        var began = Stopwatch.GetTimestamp();
        var day = DayGenerator.Make(options.Seed, Math.Max(1, options.Events / TapsOfSailing));
        files.Data = Directory.CreateDirectory(Path.Combine(files.Folder, "data")).FullName;
        day.Write(files.Data);
        AnsiConsole.MarkupLine(
            $"[bold]chaos[/], seed {options.Seed}: {day.Taps.Count + day.Sailings.Count:N0} events, {options.Kills} "
            + $"kills over {Kinds.Length * 2} processes");

        await using var broker = files.OpenBroker();
        if (!options.IsLate) await Play.DeployAsync(files, broker, cancel);
        var kills = new SortedDictionary<string, int>(StringComparer.Ordinal);
        var serverKilled = 0;
        var hand = new Operator(files.Folder, options.Seed);
        await using (var services = new Services(files, _ => { }))
        {
            var running = options.IsLate ? Kinds[..2] : Kinds;
            var harbours = Start(services, running);
            using var gates = new Gates(harbours, options.Seed, patience: 300);
            await UntilOpenAsync(services, cancel);

            var random = new Random(options.Seed);
            var bySailing = day.Taps.ToLookup(t => t.Sailing);
            var left = 0;
            var killing = KillAsync(services, () => running, options.Kills, random, kills,
                i => (long)left * options.Kills >= (long)i * day.Sailings.Count, cancel);
            var ordering = OrderAsync(
                hand, options.Orders, i => (long)left * options.Orders >= (long)i * day.Sailings.Count, cancel);
            var serverKilling = Task.Run(
                async () =>
                {
                    for (; serverKilled < options.ServerKills; Interlocked.Increment(ref serverKilled))
                    {
                        while ((long)Volatile.Read(ref left) * options.ServerKills < (
                            long)serverKilled * day.Sailings.Count) await Task.Delay(20, cancel);
                        await Task.Delay(TimeSpan.FromMilliseconds(1000 + Random.Shared.Next(1000)), cancel);
                        files.KillServer();
                    }
                },
                cancel);
            for (var i = 0; i < day.Sailings.Count; i++)
            {
                Volatile.Write(ref left, i);
                if (running.Length < Kinds.Length && i >= day.Sailings.Count / 3)
                {
                    await Play.PatientlyAsync(() => DeployAsync(files, broker, cancel), cancel);
                    Start(services, Kinds[running.Length..]);
                    running = Kinds;
                }
                await gates.BoardAsync(bySailing[day.Sailings[i].Id], cancel);
                await gates.DepartAsync(day.Sailings[i], cancel);
                // Kills and events keep pace with each other, to the end.
                while (!killing.IsCompleted && (long)Killed() * day.Sailings.Count < (long)i * options.Kills)
                    await Task.Delay(20, cancel);
                while (!serverKilling.IsCompleted && (long)Volatile.Read(ref serverKilled) * day.Sailings.Count < (
                    long)i * options.ServerKills) await Task.Delay(20, cancel);
                if (i % Math.Max(1, day.Sailings.Count / 10) == 0)
                {
                    var figures = running.Length < Kinds.Length ? null
                        : await Play.PatientlyAsync(() => broker.Reports!.ReadFiguresAsync(cancel), cancel);
                    AnsiConsole.MarkupLine(
                        $"{Stopwatch.GetElapsedTime(began).TotalSeconds,5:0} s  {gates.Requests,8:N0} requests  "
                        + $"{Killed() + serverKilled,4} kills  [grey]waiting: "
                        + string.Join("  ", (figures?.Queues ?? []).Select(f => $"{f.Queue} {f.Waiting}"))
                        + "[/]");
                }
            }
            var sailings = day.Sailings.Select(s => s.Id).ToHashSet();
            await gates.BoardAsync(day.Taps.Where(t => !sailings.Contains(t.Sailing)), cancel);
            Volatile.Write(ref left, day.Sailings.Count);
            await killing;
            await serverKilling;
            await ordering;
            await Closing.StopAsync(files, cancel);
            await Play.DrainAsync(files, broker, cancel);
            await Closing.CloseAsync(files, cancel);
            await Play.DrainAsync(files, broker, cancel);
        }

        if (serverKilled > 0) kills["server"] = serverKilled;
        AnsiConsole.MarkupLine(
            $"killed: {string.Join(", ", kills.Select(k => $"{k.Key} {k.Value}"))}; "
            + $"all is handled after {Stopwatch.GetElapsedTime(began).TotalSeconds:0} s");
        if (options.Orders > 0) AnsiConsole.MarkupLine($"ordered by hand, and obeyed: {hand.Done}");
        var account = await Account.ReadAsync(files, [], cancel);
        var expected = Expectation.Of(day);
        await account.WriteAsync(options.Ledger, expected, cancel);
        return Report.Print(account, expected);

        int Killed()
        {
            lock (kills) return kills.Values.Sum();
        }
    }

    private static async Task<bool> DeployAsync(DemoFiles files, IBroker broker, CancellationToken cancel)
    {
        await Play.DeployAsync(files, broker, cancel);
        return true;
    }

    private static List<Uri> Start(Services services, IEnumerable<(string Program, string Kind)> kinds)
    {
        List<Uri> harbours = [];
        foreach (var (program, kind) in kinds)
        {
            for (var i = 1; i <= 2; i++)
            {
                List<(string, string)> settings = [("Courier:Relay:Lease", "00:00:02")];
                if (kind == "publisher")
                {
                    harbours.Add(new Uri($"http://127.0.0.1:{FreePort()}"));
                    settings.Add(("ASPNETCORE_URLS", $"{harbours[^1]}"));
                }
                if (kind == "fares")
                {
                    settings.Add(("Courier:Schedules:close-accounts:Cron", "none"));
                    settings.Add(("Courier:Schedules:close-accounts:Every", "00:00:01"));
                    settings.Add(("Courier:Schedules:close-accounts:Missed", "Each"));
                }
                if (kind is "publisher" or "notices") settings.Add(("Courier:Relay:Enabled", "false"));
                services.Start(program, $"{kind}-{i}", more: settings);
            }
        }
        return harbours;
    }

    private static async Task UntilOpenAsync(Services services, CancellationToken cancel)
    {
        foreach (var service in services.All.Where(s => s.Name.StartsWith("publisher", StringComparison.Ordinal)))
            await service.ListensAsync(cancel);
    }

    private static async Task KillAsync(
        Services services, Func<(string Program, string Kind)[]> running, int count, Random random,
        SortedDictionary<string, int> kills, Func<int, bool> isTimeFor, CancellationToken cancel)
    {
        for (var i = 0; i < count; i++)
        {
            while (!isTimeFor(i)) await Task.Delay(20, cancel);
            await Task.Delay(TimeSpan.FromMilliseconds(200 + random.Next(1200)), cancel);
            // Each kind in turn, so that all get their share; which of the two, and when, is chance.
            var kind = running()[i % running().Length].Kind;
            services.One($"{kind}-{random.Next(1, 3)}").Kill();
            lock (kills) kills[kind] = kills.GetValueOrDefault(kind) + 1;
        }
    }

    private static async Task OrderAsync(
        Operator hand, int count, Func<int, bool> isTimeFor, CancellationToken cancel)
    {
        for (var i = 0; i < count; i++)
        {
            while (!isTimeFor(i)) await Task.Delay(20, cancel);
            await hand.OrderAsync(i, cancel);
        }
    }

    private static int FreePort()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }
}
