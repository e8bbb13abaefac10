using System.Diagnostics;
using System.Globalization;
using System.Text.Json;
using HdrHistogram;

namespace GentleCourier.Bench.Budgets;

/// <summary>
/// One process of a journey: <c>part ours|bare publisher|relay|receiver PUBLISHERS PARALLEL [texts]</c>. It is told
/// where, a <see cref="Site"/>, and what to do line by line, answers with a line each, and ends with its input.
/// </summary>
internal abstract class Part : IAsyncDisposable
{
    private readonly LongHistogram latencies = new(10_000_000, 3);
    private readonly Lock gate = new();
    private TaskCompletionSource? enough;
    private int handled, goal;

    public static async Task<int> RunAsync(string[] args)
    {
        var site = JsonSerializer.Deserialize<Site>(await Console.In.ReadLineAsync() ?? "null")
            ?? throw new InvalidOperationException("a part of the benchmark is told where it works in its first line");
        var (publishers, parallel) = (Number(args[2]), Number(args[3]));
        SqliteTrace.ReadsTexts = args is [.., "texts"];
        using var usage = new Usage();
        await using Part part = args[0] == "ours" ? new OurPart(site, publishers, parallel)
            : BarePart.Of(site, publishers, parallel);
        await part.StartAsync(args[1]);
        Answer("ready");
        while (await Console.In.ReadLineAsync() is { } line) Answer(await part.DoAsync(usage, line.Split(' ')));
        return 0;
    }

    /// <summary>Begins to be one of the three.</summary>
    public abstract Task StartAsync(string role);

    /// <summary>One of so many publishers: a business transaction with an event.</summary>
    protected abstract Task<Func<Tap, Task>> PublisherAsync(int number);

    public abstract ValueTask DisposeAsync();

    protected abstract int Publishers { get; }

    /// <summary>A handler begins with it.</summary>
    protected void Began(Tap tap)
    {
        var micros = Stopwatch.GetElapsedTime(long.Parse(tap.Card, CultureInfo.InvariantCulture)).TotalMicroseconds;
        lock (gate) latencies.RecordValue(Math.Clamp((long)micros, 1, 10_000_000));
    }

    /// <summary>Its effect is committed.</summary>
    protected void Handled()
    {
        lock (gate)
            if (++handled >= goal) enough?.TrySetResult();
    }

    private async Task<string> DoAsync(Usage usage, string[] words)
    {
        switch (words[0])
        {
            case "begin":
                lock (gate)
                {
                    (handled, goal, enough) = (0, int.MaxValue, null);
                    latencies.Reset();
                }
                usage.Begin();
                return "begun";
            case "publish":
                await PublishAsync(Number(words[1]), Number(words[2]), Number(words[3]));
                return "published";
            case "await":
                await AwaitAsync(Number(words[1]));
                return "handled";
            default:
                var used = usage.End();
                lock (gate)
                {
                    if (latencies.TotalCount > 0)
                        (used[Latency50], used[Latency99]) = (
                            latencies.GetValueAtPercentile(50) / 1000.0, latencies.GetValueAtPercentile(99) / 1000.0);
                }
                return JsonSerializer.Serialize(used);
        }
    }

    public const string Latency50 = "latency, ms: median", Latency99 = "latency, ms: 99 %";

    /// <summary>So many events, numbered from one on, each at its time; rate 0: one after another.</summary>
    private async Task PublishAsync(int first, int count, int rate)
    {
        var (next, began) = (-1, Stopwatch.GetTimestamp());
        await Task.WhenAll(Enumerable.Range(0, Publishers).Select(number => Task.Run(async () =>
        {
            var publish = await PublisherAsync(number);
            while (Interlocked.Increment(ref next) is var mine && mine < count)
            {
                if (rate > 0 && TimeSpan.FromSeconds((double)mine / rate) - Stopwatch.GetElapsedTime(began)
                    is { Ticks: > 0 } early)
                    await Task.Delay(early);
                var now = Stopwatch.GetTimestamp().ToString(CultureInfo.InvariantCulture);
                await publish(new Tap(first + mine, "Longsand", now, "sailing-7"));
            }
        })));
    }

    private async Task AwaitAsync(int count)
    {
        var reached = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        lock (gate)
        {
            (goal, enough) = (count, reached);
            if (handled >= goal) reached.SetResult();
        }
        while (!reached.Task.IsCompleted)
        {
            var before = Volatile.Read(ref handled);
            await Task.WhenAny(reached.Task, Task.Delay(TimeSpan.FromMinutes(1)));
            if (!reached.Task.IsCompleted && Volatile.Read(ref handled) == before)
                throw new InvalidOperationException($"of {count} events {before} were handled, and none for a minute");
        }
    }

    private static void Answer(string line)
    {
        Console.Out.WriteLine(line);
        Console.Out.Flush();
    }

    private static int Number(string text) => int.Parse(text, CultureInfo.InvariantCulture);
}
