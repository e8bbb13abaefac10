using System.Diagnostics;
using System.Text;
using FerryLine.Contracts;
using GentleCourier;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Spectre.Console;

namespace FerryLine.Demo;

/// <summary>The whole play: set the scene, play the day, wait until all is handled, and draw up the account.</summary>
internal static class Play
{
    /// <summary>It only ends what hangs, on a machine however slow.</summary>
    public static readonly TimeSpan Limit = TimeSpan.FromMinutes(10);

    // For how long nothing at all may move at its end.
    private static readonly TimeSpan Standstill = TimeSpan.FromMinutes(2);

    private static readonly TimeSpan LookOften = TimeSpan.FromMilliseconds(100),
        LookCalmly = TimeSpan.FromMilliseconds(250), AtOnce = TimeSpan.FromMilliseconds(1);

    public sealed record Options(string Engine, FileInfo? Ledger, DirectoryInfo? Keep, int KillFares, int Seed,
        string? Misspelt, TimeSpan Over, bool Trace);

    public static Task<int> RunAsync(Options options, CancellationToken stop) =>
        WithFilesAsync(options.Engine, nodes: 1, options.Keep, Limit + options.Over,
            (files, cancel) => RunAsync(options, files, cancel), stop);

    /// <summary>
    /// Runs something in a folder of its own, within a limit, and turns what goes wrong into a message and an exit
    /// code.
    /// </summary>
    public static async Task<int> WithFilesAsync(
        string engine, int nodes, DirectoryInfo? keep, TimeSpan within,
        Func<DemoFiles, CancellationToken, Task<int>> run, CancellationToken stop)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(stop);
        limit.CancelAfter(within);
        try
        {
            using var files = new DemoFiles(engine, nodes, keep);
            return await run(files, limit.Token);
        }
        catch (OperationCanceledException) when (stop.IsCancellationRequested)
        {
            AnsiConsole.MarkupLine("[bold]stopped[/] by hand; the services have ended and their files are gone");
            return 130;
        }
        catch (OperationCanceledException)
        {
            await Console.Error.WriteLineAsync(
                $"demo: not finished within {within.TotalSeconds:0} s; run it again with --keep DIR and read the logs "
                + "there");
            return 1;
        }
        catch (Exception e)
            when (e is IOException or CourierException or InvalidOperationException or HttpRequestException
                or TimeoutException)
        {
            await Console.Error.WriteLineAsync($"demo: {e.Message}");
            return 1;
        }
    }

    private static async Task<int> RunAsync(Options options, DemoFiles files, CancellationToken cancel)
    {
        if (options is { Engine: "amqp", Misspelt: not null })
            throw new InvalidOperationException(
                "where queues are made by an operator a worker cannot make a wrong one; leave out --misspelt");
        var day = Day.Read(Path.Combine(AppContext.BaseDirectory, "Data"));
        AnsiConsole.MarkupLine(
            $"[bold]Skerry Line[/], {ServiceDay.Today:d MMMM yyyy}: {day.Taps.Count:N0} taps, {day.Sailings.Count} "
            + $"sailings, {day.Piers.Count} piers; the broker is {Markup.Escape(files.ShownBroker)}");

        await using var broker = files.OpenBroker();
        await DeployAsync(files, broker, cancel);

        List<string> babble;
        await using var recording = new Recording(files);
        await using (
            var services = new Services(
                files, line => AnsiConsole.MarkupLine($"[bold]{Markup.Escape(line)}[/]"), options.Trace))
        {
            services.Start("Harbour");
            services.Start("Fares");
            services.Start("DeckCount");
            if (options.Misspelt is { } how) await Slip.MakeAsync(services, files, how == "made", cancel);
            else services.Start("Notices");
            using var gates = new Gates([await services.One("Harbour").ListensAsync(cancel)], options.Seed);
            recording.Begin(options.Over > TimeSpan.Zero ? LookCalmly : LookOften);
            await Tomorrow.PlanAsync(day, gates, cancel);
            babble = await PlayDayAsync(day, gates, services, broker, recording, options, cancel);
            AnsiConsole.MarkupLine(
                $"the day is over: {gates.Requests:N0} requests, {gates.Refused} refused as no JSON; the workers "
                + "finish");
            if (options.Misspelt is not null) await Slip.FindAndMendAsync(services, broker, cancel);
            await DrainAsync(files, broker, cancel);
            await Closing.CloseAsync(files, cancel);
            await DrainAsync(files, broker, cancel);
        }
        var drawn = await recording.DrawAsync(files.Picture, cancel);

        var account = await Account.ReadAsync(files, babble, cancel);
        var expected = Expectation.Of(day);
        await account.WriteAsync(options.Ledger, expected, cancel);
        var exitCode = Report.Print(account, expected);
        AnsiConsole.WriteLine(drawn);
        if (options.Trace) AnsiConsole.WriteLine(Traced(files));
        return exitCode;
    }

    private static string Traced(DemoFiles files)
    {
        if (Trace.Read(files.Folder) is not { } trace) return "No trace has come whole.";
        trace.Draw(files.TracePicture);
        return $"One tap, from the gate to all that came of it: {files.TracePicture}";
    }

    /// <summary>What a deployment does before the services start: they find their queues and routes.</summary>
    public static Task DeployAsync(DemoFiles files, IBroker broker, CancellationToken cancel) => files.DeployAsync(
        broker, new Topology(
            ["fares", "deck-count", "notices"],
            [
                new("skerryline.passenger-boarded", "fares"),
                new("skerryline.passenger-boarded", "deck-count"),
                new("skerryline.sailing-departed", "deck-count"),
                new("skerryline.sailing-departed", "notices"),
                new("skerryline.deck-nearly-full", "notices"),
                new("skerryline.sailing-reminder", "notices"),
                new("skerryline.accounts-due", "fares"),
            ]),
        cancel);

    private static async Task<List<string>> PlayDayAsync(
        Day day, Gates gates, Services services, IBroker broker, Recording recording, Options options,
        CancellationToken cancel)
    {
        var kills = options.KillFares;
        using var pace = new PeriodicTimer(options.Over > TimeSpan.Zero ? options.Over / day.Sailings.Count : AtOnce);
        var babble = new List<string>();
        var bySailing = day.Taps.ToLookup(t => t.Sailing);
        var killAfter = Enumerable.Range(1, kills).Select(k => k * day.Sailings.Count / (kills + 1)).ToHashSet();
        var played = 0;
        foreach (var sailing in day.Sailings)
        {
            var boarding = gates.BoardAsync(bySailing[sailing.Id], cancel);
            if (killAfter.Contains(played))
            {
                services.One("Fares").Kill();
                await recording.NoteAsync("Fares killed", cancel);
            }
            await boarding;
            await pace.WaitForNextTickAsync(cancel);
            await gates.DepartAsync(sailing, cancel);
            if (++played % 8 == 0)
            {
                await gates.BabbleAsync(cancel);
                babble.Add(await BabbleToTheBrokerAsync(broker, played, cancel));
            }

            var figures = (await broker.Reports!.ReadFiguresAsync(cancel)).Queues;
            var waiting = string.Join("  ", figures.Select(f => $"{f.Queue} {f.Waiting,4}"));
            AnsiConsole.MarkupLine(
                $"{sailing.Departs[11..16]}  {sailing.Pier,-10} {bySailing[sailing.Id].Count(),4} taps  [grey]waiting: "
                + $"{waiting}[/]");
        }
        // The wrong taps, which belong to no sailing.
        var known = day.Sailings.Select(s => s.Id).ToHashSet();
        await gates.BoardAsync(day.Taps.Where(t => !known.Contains(t.Sailing)), cancel);
        return babble;
    }

    /// <summary>An old gate that speaks to the broker itself, in a format of its own.</summary>
    private static async Task<string> BabbleToTheBrokerAsync(IBroker broker, int number, CancellationToken cancel)
    {
        var id = $"old-gate/{number:000}";
        var json = $$"""
            {"specversion":"1.0","id":"{{id}}","source":"/skerryline/old-gate","type":"skerryline.passenger-boarded","datacontenttype":"text/csv","data":"Longsand;card-0417;06:12"}
            """;
        var babble = new EncodedEvent(id, "skerryline.passenger-boarded", null, Encoding.UTF8.GetBytes(json));
        await broker.PublishAsync(
            broker.Abilities.HasFlag(BrokerAbilities.Routes) ? [babble]
                : [babble with { Address = "fares" }, babble with { Address = "deck-count" }],
            cancel);
        return id;
    }

    /// <summary>Waits until every outbox is empty and no queue has anything that waits.</summary>
    public static async Task DrainAsync(DemoFiles files, IBroker broker, CancellationToken cancel)
    {
        await using var harbour = files.OpenStore("Harbour");
        await using var deckCount = files.OpenStore("DeckCount");
        await using var fares = files.OpenStore("Fares");
        var (least, since) = (long.MaxValue, Stopwatch.GetTimestamp());
        while (true)
        {
            // In the order in which an event travels: what leaves one is in the next before this one is seen empty.
            var waiting = await PatientlyAsync(
                async () => Leaving(await harbour.ReadOutboxFiguresAsync(cancel))
                    + Leaving(await fares.ReadOutboxFiguresAsync(cancel))
                    + await WaitingAsync(files, broker, "fares", "deck-count", cancel)
                    + (await deckCount.ReadOutboxFiguresAsync(cancel))
                        .Waiting + await WaitingAsync(files, broker, "notices", "notices", cancel),
                cancel);
            if (waiting == 0) return;
            if (waiting < least) (least, since) = (waiting, Stopwatch.GetTimestamp());
            if (Stopwatch.GetElapsedTime(since) > Standstill)
            {
                throw new TimeoutException(
                    $"{waiting:N0} events wait, and none has moved for {Standstill.TotalSeconds:0} s; run it again "
                    + "with --keep DIR and read the logs there");
            }
            await Task.Delay(50, cancel);
        }
    }

    /// <summary>What is in an outbox, and what will be there in a moment.</summary>
    private static long Leaving(OutboxFigures outbox) =>
        outbox.Waiting + (outbox is { Later: > 0 } && outbox.NextDueIn < Tomorrow.Soon ? 1 : 0);

    /// <summary>Reads something, again and again while its database is away.</summary>
    public static async Task<T> PatientlyAsync<T>(Func<Task<T>> read, CancellationToken cancel)
    {
        while (true)
        {
            try
            {
                return await read();
            }
            catch (CourierException)
            {
                await Task.Delay(200, cancel);
            }
        }
    }

    private static async Task<long> WaitingAsync(
        DemoFiles files, IBroker broker, string queue, string other, CancellationToken cancel)
    {
        var waiting = (await broker.Reports!.ReadFiguresAsync(cancel)).Queues
            .Where(f => f.Queue == queue || f.Queue == other).Sum(f => f.Waiting ?? 0);
        // What is in hand, not every broker says at once.
        return waiting > 0 ? waiting
            : await Task.Run(() => new[] { queue, other }.Distinct().Sum(q => (long)files.HeldBy(q)), cancel);
    }
}
