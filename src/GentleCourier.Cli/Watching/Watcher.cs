using System.Runtime.ExceptionServices;
using System.Threading.Channels;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Spectre.Console;

namespace GentleCourier.Cli;

/// <summary>Looks again and again, and shows each look: on a terminal with keys, or as a line.</summary>
internal sealed class Watcher(
    IBroker? broker, (string Name, IStorePort Port)[] stores, string[] named, TimeSpan every) : IDisposable
{
    // Drawing costs more than looking: it is done after a look or a key, and to say that no look has ended for long.
    private static readonly TimeSpan DrawsAnyway = TimeSpan.FromSeconds(5);

    private readonly View view = new();
    // Released where somebody wants to see something at once.
    private readonly SemaphoreSlim hurry = new(0);

    public void Dispose() => hurry.Dispose();

    /// <summary>One line a look, until it is cancelled.</summary>
    public async Task PrintAsync(bool json, CancellationToken cancel)
    {
        using var timer = new PeriodicTimer(every);
        do
        {
            var status = await LookAsync(cancel);
            if (json) StatusJson.PrintLine(status);
            else Console.WriteLine(LineOf(status));
        }
        while (await timer.WaitForNextTickAsync(cancel));
    }

    /// <summary>On the terminal, until somebody presses q or it is cancelled.</summary>
    public async Task ShowAsync(CancellationToken cancel)
    {
        using var end = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        // A look may take long, and nobody who presses a key waits for it.
        var events = Channel.CreateBounded<Action>(new BoundedChannelOptions(100)
        {
            FullMode = BoundedChannelFullMode.DropOldest,
        });
        var looking = LookOnAsync(events.Writer, end.Token);
        ReadKeys(events.Writer);
        AnsiConsole.Write(new ControlCode("\e[?1049h\e[?25l\e[H"));
        try
        {
            await AnsiConsole.Live(new Text("")).Overflow(VerticalOverflow.Crop).StartAsync(async live =>
            {
                while (!view.IsClosed)
                {
                    live.UpdateTarget(Frame());
                    using var tick = CancellationTokenSource.CreateLinkedTokenSource(end.Token);
                    tick.CancelAfter(DrawsAnyway);
                    try
                    {
                        (await events.Reader.ReadAsync(tick.Token))();
                        while (events.Reader.TryRead(out var next)) next();
                    }
                    catch (OperationCanceledException) when (!end.IsCancellationRequested)
                    {
                        // It is drawn anew.
                    }
                }
            });
        }
        catch (ChannelClosedException e) when (e.InnerException is { } problem)
        {
            ExceptionDispatchInfo.Throw(problem);
        }
        finally
        {
            AnsiConsole.Write(new ControlCode("\e[?25h\e[?1049l"));
            await end.CancelAsync();
            await looking.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    private Rows Frame() => new(Screen.Of(view, DateTimeOffset.Now, AnsiConsole.Profile.Width,
        AnsiConsole.Profile.Height - 1, AnsiConsole.Profile.Capabilities.Unicode)
        .Select(line => new Markup(line.Length == 0 ? " " : line)));

    /// <summary>Ends only with the watching; what it cannot do any more ends that, too.</summary>
    private async Task LookOnAsync(ChannelWriter<Action> events, CancellationToken cancel)
    {
        try
        {
            while (true)
            {
                var status = await LookAsync(cancel);
                var at = DateTimeOffset.Now;
                await events.WriteAsync(() => view.See(status, at), cancel);
                if (view.Closer is { } queue && broker is not null)
                    await LookCloserAsync(queue, status, events, cancel);
                await hurry.WaitAsync(every, cancel);
            }
        }
        catch (Exception e) when (e is not OperationCanceledException)
        {
            events.TryComplete(e);
        }
    }

    private async Task LookCloserAsync(
        string queue, CourierStatus status, ChannelWriter<Action> events, CancellationToken cancel)
    {
        try
        {
            var letters = status.Broker?.Queues.FirstOrDefault(q => q.Queue == queue)?.DeadLetters;
            var inside = await QueueInside.ReadAsync(broker!, queue, letters, view.Inside, cancel);
            await events.WriteAsync(() => view.Inside = inside, cancel);
        }
        catch (CourierException)
        {
            // The next look will say that the broker is away.
        }
    }

    private async Task<CourierStatus> LookAsync(CancellationToken cancel) =>
        StatusCommand.Only(named, await CourierStatus.ReadAsync(broker, stores, cancel));

    /// <summary>A thread that waits for keys costs nothing, and ends with the process.</summary>
    private void ReadKeys(ChannelWriter<Action> events)
    {
        if (Console.IsInputRedirected) return;
        new Thread(() =>
        {
            while (!view.IsClosed)
            {
                var key = Console.ReadKey(intercept: true);
                events.TryWrite(() => Press(key));
            }
        }) { IsBackground = true, Name = "keys" }.Start();
    }

    private void Press(ConsoleKeyInfo key)
    {
        var before = view.Closer;
        view.Press(key, Math.Max(1, AnsiConsole.Profile.Height / 2));
        if (view.Closer is not null && view.Closer != before) hurry.Release();
    }

    private static string LineOf(CourierStatus status)
    {
        const int fullest = 3;
        var queues = status.Queues;
        var parts = new List<string>
        {
            $"{Plain.Number(queues.Sum(q => q.Figures.Waiting))} wait in {Plain.Number(queues.Count)} queues",
        };
        parts.AddRange(queues.Where(q => q.Figures.Waiting > 0).OrderByDescending(q => q.Figures.Waiting).Take(fullest)
            .Select(q => $"{q.Figures.Queue} {Plain.Number(q.Figures.Waiting)} (lag {Screen.LagOf(q)})"));
        if (queues.Any(q => q.Rates is not null))
            parts.Add($"{Plain.Rate(queues.Sum(q => q.Rates?.Arrivals ?? 0))} come and "
                + $"{Plain.Rate(queues.Sum(q => q.Rates?.Handled ?? 0))} are handled a second");
        if (status.Stores.Count > 0)
            parts.Add($"{Plain.Number(status.Stores.Sum(s => s.Outbox.Waiting))} in outboxes");
        var wrong = status.Findings.Where(f => f.IsWrong).Select(f => $"{f.Code} {f.Subject}".TrimEnd()).ToList();
        parts.Add(wrong.Count == 0 ? "nothing wrong" : $"wrong: {string.Join(", ", wrong)}");
        return $"{Plain.Time(DateTimeOffset.UtcNow)}  {Plain.Line(string.Join("; ", parts))}";
    }
}
