using System.Collections.Concurrent;
using System.Diagnostics;
using System.Globalization;
using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Postgres;

/// <summary>
/// Wakes the links of a broker that wait. It hears of changes by announcement; since these can be lost, and time
/// passes, it also looks, for all queues that are waited for at once: at every tick, and when something falls due or a
/// lease ends. It rests while nobody waits. Thread-safe.
/// </summary>
internal sealed class QueueWatch : IAsyncDisposable
{
    /// <summary>How often to look without an announcement.</summary>
    public static readonly TimeSpan Tick = TimeSpan.FromSeconds(2);

    // Looks are this far apart at the least, however much is announced.
    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(20);
    private static readonly TimeSpan FirstRetry = TimeSpan.FromMilliseconds(100);

    private readonly PostgresServer server;
    private readonly BrokerStatements sql;
    private readonly Func<int, Signal> changed;
    private readonly Func<int, QueuePlace> placeOf;
    private readonly TimeProvider clock;
    private readonly Listener listener;
    private readonly ConcurrentDictionary<int, int> waiting = new();
    private readonly Signal news = new();
    private readonly CancellationTokenSource disposed = new();
    private readonly Lock starting = new();
    private readonly Loop loop;
    private Task? looking;

    public QueueWatch(PostgresServer server, BrokerStatements sql, Func<int, Signal> changed,
        Func<int, QueuePlace> placeOf, TimeProvider clock, ILogger? logger)
    {
        this.server = server;
        this.sql = sql;
        this.changed = changed;
        this.placeOf = placeOf;
        this.clock = clock;
        listener = new Listener(server, server.Channel("queue"), Heard, news.Raise, logger);
        loop = new Loop($"Watching the queues of {server.DisplayName}", FirstRetry, Tick, TimeProvider.System, logger)
        {
            Failed = (_, _) => WakeAll(),
        };
    }

    /// <summary>Waits until a queue's signal, taken before, has been raised.</summary>
    public async Task WaitAsync(int queue, Task signal, CancellationToken cancellationToken)
    {
        Start();
        if (waiting.AddOrUpdate(queue, 1, static (_, count) => count + 1) == 1) news.Raise();
        try
        {
            await signal.WaitAsync(cancellationToken).ConfigureAwait(false);
        }
        finally
        {
            waiting.AddOrUpdate(queue, 0, static (_, count) => count - 1);
        }
    }

    /// <summary>Raised when something has been ordered by hand.</summary>
    public Signal ByHand { get; } = new();

    /// <summary>Begins to listen, if it does not yet.</summary>
    public void Start()
    {
        if (Volatile.Read(ref looking) is not null) return;
        lock (starting)
        {
            listener.Start();
            looking ??= loop.RunAsync(LookAsync, disposed.Token);
        }
    }

    /// <summary>Something has been ordered by hand: queues may be open that were not.</summary>
    public void Ordered()
    {
        ByHand.Raise();
        news.Raise();
    }

    public async ValueTask DisposeAsync()
    {
        await disposed.CancelAsync().ConfigureAwait(false);
        await listener.DisposeAsync().ConfigureAwait(false);
        if (looking is not null) await looking.ConfigureAwait(false);
        disposed.Dispose();
    }

    private void Heard(string payload)
    {
        if (payload == BrokerStatements.ByHand) Ordered();
        if (!int.TryParse(payload, NumberStyles.None, CultureInfo.InvariantCulture, out var queue)) return;
        changed(queue).Raise();
        // It may have been put off, or have been taken in hand: when to look next is to be seen anew.
        if (waiting.GetValueOrDefault(queue) > 0) news.Raise();
    }

    /// <summary>The links find out for themselves what has failed, and wait until the server is back.</summary>
    private Task WakeAll()
    {
        foreach (var queue in waiting.Keys) changed(queue).Raise();
        return Task.CompletedTask;
    }

    private async Task LookAsync(CancellationToken ending)
    {
        var (next, looked) = (news.Next, clock.GetTimestamp());
        var queues = waiting.Where(w => w.Value > 0).Select(w => w.Key).ToArray();
        var soonest = queues.Length > 0 ? await LookIntoAsync(queues, ending).ConfigureAwait(false)
            : TimeSpan.MaxValue;
        loop.Succeeded();
        using var over = CancellationTokenSource.CreateLinkedTokenSource(ending);
        var tick = Task.Delay(queues.Length > 0 ? Tick : Timeout.InfiniteTimeSpan, over.Token);
        // A clock that is not the system's may be set forward by any time, and a look by the tick would be long after.
        var due = soonest < Tick || (clock != TimeProvider.System && soonest < TimeSpan.MaxValue)
            ? Task.Delay(Left(soonest, looked), clock, over.Token) : tick;
        await Task.WhenAny(next, tick, due).ConfigureAwait(false);
        await over.CancelAsync().ConfigureAwait(false);
        await Task.Delay(Pause, ending).ConfigureAwait(false);
    }

    private TimeSpan Left(TimeSpan time, long since) =>
        time - clock.GetElapsedTime(since) is var left && left > TimeSpan.Zero ? left : TimeSpan.Zero;

    private async Task<TimeSpan> LookIntoAsync(int[] queues, CancellationToken ending)
    {
        var soonest = TimeSpan.MaxValue;
        var from = Array.ConvertAll(queues, queue => placeOf(queue).From);
        var passed = Array.ConvertAll(queues, queue => placeOf(queue).Passed);
        var began = Stopwatch.GetTimestamp();
        await server.RunAsync("look into the queues of",
            new RoundTrip().Add(
                sql.Look, See, server.Now, Parameter.Of(queues), Parameter.Of(from), Parameter.Of(passed)), ending)
            .ConfigureAwait(false);
        var took = Stopwatch.GetElapsedTime(began);
        for (var i = 0; i < queues.Length; i++)
            if (from[i] == 0) placeOf(queues[i]).LookedAtAll(took);
        return soonest;

        void See(Npgsql.NpgsqlDataReader row)
        {
            if (row.GetBoolean(1)) changed(row.GetInt32(0)).Raise();
            if (row.Span(2) is { } time && time < soonest) soonest = time;
        }
    }
}
