using GentleCourier.ByHand;
using GentleCourier.Engines;
using GentleCourier.Watching;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Options;
using Microsoft.Extensions.Time.Testing;

namespace GentleCourier.Conformance;

public abstract class ReceiverScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly Dictionary<string, string?> QuickRetries = new()
    {
        ["Courier:Receivers:taps:MaxAttempts"] = "5",
        ["Courier:Receivers:taps:FirstDelay"] = "00:00:00.001",
        ["Courier:Receivers:taps:MaxDelay"] = "00:00:00.010",
    };

    private static Task<IHost> StartFaresAsync(
        Crossing crossing, Log log, Action<ReceiverOptions>? limits = null,
            Dictionary<string, string?>? settings = null, string service = "fares") =>
        crossing.StartAsync(
            service,
            courier => courier.Receive("taps", queue =>
            {
                limits?.Invoke(queue.Options);
                queue.Handle<Tap, TapReceiver>();
            }),
            settings,
            services => services.AddSingleton(log));

    [Fact]
    public async Task A_poison_event_becomes_a_dead_letter_after_its_last_attempt_and_the_queue_moves_on()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log { OnTap = (d, _) => d.Data.Number == 1 ? throw new InvalidOperationException(
            "no fare for this pier") : Task.CompletedTask };
        await StartFaresAsync(crossing, log, settings: QuickRetries);
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(new Tap(1), new Tap(2));

        await crossing.SettledAsync(deadLetters: 1);
        Assert.Equal([1, 2, 3, 4, 5], log.Taps.Where(t => t.Data.Number == 1).Select(t => t.Attempt));
        Assert.Single(log.Taps, t => t.Data.Number == 2);
        var letter = Assert.Single(await crossing.DeadLetters.ReadAsync(null, 10));
        Assert.Equal(5, letter.Attempts);
        Assert.Equal(
            "failed all 5 attempts; the last with InvalidOperationException: no fare for this pier", letter.Reason);
        Assert.Equal("System.InvalidOperationException", letter.Failure!.Exception);
        Assert.Contains(nameof(TapReceiver), letter.Failure.Stack, StringComparison.Ordinal);
        Assert.Contains($"{Environment.ProcessId}", letter.Worker, StringComparison.Ordinal);
        Assert.True(letter.Arrived <= letter.FirstAttempt && letter.FirstAttempt <= letter.SetAside);
        Assert.Equal(1, Crossing.NumberOf(letter.Json));
    }

    private sealed class Spiteful : Exception
    {
        public override string Message => throw new InvalidOperationException("not even this");
    }

    [Fact]
    public async Task An_exception_that_cannot_be_read_ends_neither_the_worker_nor_the_attempts()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log { OnTap = (d, _) => d.Data.Number == 1 ? throw new Spiteful() : Task.CompletedTask };
        await StartFaresAsync(crossing, log,
            limits => (limits.MaxAttempts, limits.FirstDelay, limits.MaxDelay) = (2, TimeSpan.Zero, TimeSpan.Zero));
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1), new Tap(2));
        await crossing.SettledAsync(deadLetters: 1);
        Assert.Equal([1, 1, 2], log.Taps.Select(t => t.Data.Number).Order());
    }

    [Fact]
    public async Task A_receiver_may_say_that_trying_again_is_useless()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log { OnTap = (_, _) => throw new RejectException("there is no pier 'Atlantis'") };
        await StartFaresAsync(crossing, log);
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1, "Atlantis"));
        await crossing.SettledAsync(deadLetters: 1);
        Assert.Equal("there is no pier 'Atlantis'", (await crossing.DeadLetters.ReadAsync(null, 1))[0].Reason);
        Assert.Single(log.Taps);
    }

    [Fact]
    public async Task Inbox_row_effect_and_new_events_commit_together_or_not_at_all()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.charged", "charges"), ("test.tap", "taps"));
        IHost fares = null!;
        var log = new Log
        {
            OnTap = async (delivery, cancel) =>
            {
                var transaction = await delivery.BeginAsync(cancel);
                await transaction.Connection!.ExecuteAsync(
                    "INSERT INTO charge VALUES (@n)", ("@n", delivery.Data.Number));
                await fares.Services.GetRequiredService<IOutbox>()
                    .AddAsync(transaction, new Charged(delivery.Data.Number), cancellationToken: cancel);
                // It fails twice, half of its work done.
                if (delivery.Attempt < 3) throw new TimeoutException("the till is jammed");
            },
        };
        fares = crossing.Build(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()), QuickRetries, s => s.AddSingleton(log));
        await fares.Store().PrepareAsync(create: true);
        await using (var connection = await fares.Store().OpenConnectionAsync()) await connection.ExecuteAsync(
            "CREATE TABLE charge (number INTEGER)");
        await fares.StartAsync();
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(7));

        await crossing.SettledAsync();
        await Crossing.UntilAsync(
            async () => (await fares.Store().ReadOutboxFiguresAsync()).Waiting == 0, "the charge is relayed");
        Assert.Equal(3, log.Taps.Count);
        Assert.Equal([7], await Crossing.NumbersAsync(fares.Store(), "SELECT number FROM charge"));
        Assert.Equal([7], (await crossing.Reports.PeekAsync("charges", 10)).Select(e => Crossing.NumberOf(e.Json)));
        Assert.Equal(1, Assert.Single(await fares.Store().Inbox.ReadAsync("taps")).Copies);
    }

    [Fact]
    public async Task An_event_published_twice_has_its_effect_once()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log();
        var fares = await StartFaresAsync(crossing, log);
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(EventDraft.Of(new Tap(1), new() { Id = "gate-7/0001" }));
        await crossing.SettledAsync();
        await harbour.PublishAsync(
            EventDraft.Of(new Tap(1), new() { Id = "gate-7/0001" }),
            EventDraft.Of(new Tap(2), new() { Id = "gate-7/0002" }));
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 2), "the new one is handled");
        await crossing.SettledAsync();
        Assert.Equal([1, 2], log.Taps.Select(t => t.Data.Number));
        Assert.Equal(2, (await fares.Store().Inbox.ReadAsync("taps")).Single(e => e.Id == "gate-7/0001").Copies);
    }

    /// <summary>
    /// A publisher gives one id to two events. The second is not lost without a word: it is counted, and said with both
    /// hashes; a copy that says the same in another way is no such thing.
    /// </summary>
    [Fact]
    public async Task Other_data_under_the_id_of_what_was_handled_is_absorbed_counted_and_said()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log();
        var fares = await StartFaresAsync(crossing, log);
        await StartHandledAsync(crossing);
        var status = fares.Services.GetRequiredService<ICourierStatus>();
        Assert.DoesNotContain((await status.ReadAsync()).Findings, f => f.Code == "other-data");
        await PublishAsync(crossing, "same", """{"number":1.0,"pier":"Longsand"}""");
        await PublishAsync(crossing, "other", """{"number":2,"pier":"Longsand"}""");
        await Crossing.UntilAsync(
            async () => (await fares.Store().Inbox.ReadAsync("taps")).Sum(e => e.Copies) == 4, "both are counted");
        await crossing.SettledAsync();
        Assert.Equal([1, 1], log.Taps.Select(t => t.Data.Number));
        var finding = Assert.Single((await status.ReadAsync()).Findings, f => f.Code == "other-data");
        Assert.True(finding.IsWrong);
        Assert.Contains("1 event came", finding.What, StringComparison.Ordinal);
        Assert.Contains("'taps', /t other: handled ", finding.What, StringComparison.Ordinal);
        var other = (await fares.Store().Inbox.ReadOtherDataAsync())!;
        Assert.Equal((1, "taps", "/t", "other"), (other.Events, other.Queue, other.Source, other.Id));
        Assert.NotEqual(other.Handled, other.Other);
    }

    [Fact]
    public async Task Other_data_under_the_id_of_what_was_handled_is_set_aside_where_that_is_asked_for()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log();
        await StartFaresAsync(crossing, log, options => options.OnOtherData = OtherData.SetAside);
        await StartHandledAsync(crossing);
        await PublishAsync(crossing, "same", """{"number":1,"pier":"Longsand"}""");
        foreach (var number in new[] { 2, 3, 2 })
            await PublishAsync(crossing, "other", $$"""{"number":{{number}},"pier":"Longsand"}""");
        await crossing.SettledAsync(deadLetters: 2);
        Assert.Equal([1, 1], log.Taps.Select(t => t.Data.Number));
        var letters = await crossing.DeadLetters.ReadAllAsync().ToListAsync();
        Assert.All(letters, letter => Assert.Contains("handled with other data", letter.Reason));
        Assert.Equal([2, 3], letters.Select(l => Crossing.NumberOf(l.Json)).Order());
    }

    /// <summary>Events with the ids <c>same</c> and <c>other</c> have been handled.</summary>
    private static async Task StartHandledAsync(Crossing crossing)
    {
        foreach (var id in new[] { "same", "other" })
            await PublishAsync(crossing, id, """{"number":1,"pier":"Longsand"}""");
        await Crossing.UntilAsync(
            async () => (await crossing.SharedStore("fares").Inbox.ReadAsync("taps")).Count == 2, "both are handled");
    }

    private static Task<IReadOnlyList<PublishResult>> PublishAsync(Crossing crossing, string id, string data) =>
        crossing.Broker().PublishAsync([new(id, "test.tap", null, System.Text.Encoding.UTF8.GetBytes(
            $$"""{"specversion":"1.0","id":"{{id}}","source":"/t","type":"test.tap","data":{{data}}}"""))]);

    [Fact]
    public async Task Copies_that_come_together_are_given_to_the_handler_once()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        // Three of each, next to each other and far apart: when they come, none has been handled yet.
        await crossing.Broker()
            .PublishAsync(
            [.. Enumerable.Range(0, 50).SelectMany(n => new[] { n, n }).Concat(Enumerable.Range(0, 50)).Select(
            n => Crossing.TapEvent(n))]);
        var log = new Log();
        // A clock that stands still: what was found when they came is as good as new for all of them.
        var fares = await crossing.StartAsync(
            "fares",
            courier => courier.Receive("taps", queue =>
            {
                queue.Options.Prefetch = 150;
                queue.Handle<Tap, TapReceiver>();
            }),
            services: services =>
                services.AddSingleton(log).AddSingleton<TimeProvider>(new FakeTimeProvider(DateTimeOffset.UtcNow)));
        await crossing.SettledAsync();
        Assert.Equal(Enumerable.Range(0, 50), log.Taps.Select(t => t.Data.Number).Order());
        Assert.All(await fares.Store().Inbox.ReadAsync("taps"), e => Assert.Equal(3, e.Copies));
    }

    [Fact]
    public async Task Two_workers_that_hold_copies_at_the_same_moment_have_one_effect()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        using var together = new Barrier(2);
        var log = new Log
        {
            OnTap = async (delivery, cancel) =>
            {
                // Both have looked into the inbox and found nothing when they begin.
                await Task.Run(() => together.SignalAndWait(Crossing.Limit), cancel);
                var transaction = await delivery.BeginAsync(cancel);
                await transaction.Connection!.ExecuteAsync(
                    "INSERT INTO charge VALUES (@n)", ("@n", delivery.Data.Number));
            },
        };
        var store = crossing.Store("fares");
        await store.PrepareAsync(create: true);
        await using (var connection = await store.OpenConnectionAsync()) await connection.ExecuteAsync(
            "CREATE TABLE charge (number INTEGER)");
        await StartFaresAsync(crossing, log, limits => limits.Prefetch = 1);
        await StartFaresAsync(crossing, log, limits => limits.Prefetch = 1);
        var harbour = await crossing.StartAsync("harbour");
        const int Pairs = 10;
        await harbour.PublishAsync(
            [.. Enumerable.Range(0, Pairs).SelectMany(i => Enumerable.Repeat(i, 2)).Select(
            i => EventDraft.Of(new Tap(i), new() { Id = $"{i}" }))]);

        await crossing.SettledAsync();
        Assert.Equal(
            Enumerable.Range(0, Pairs), (await Crossing.NumbersAsync(store, "SELECT number FROM charge")).Order());
        Assert.All(await store.Inbox.ReadAsync("taps"), e => Assert.Equal(2, e.Copies));
    }

    [Fact]
    public async Task A_stop_finishes_what_is_in_hand_and_gives_back_the_rest_untouched()
    {
        await using var crossing = new Crossing(new TPlace());
        var started = new TaskCompletionSource();
        var finish = new TaskCompletionSource();
        var log = new Log
        {
            OnTap = async (_, _) =>
            {
                started.TrySetResult();
                await finish.Task;
            },
        };
        var fares = await StartFaresAsync(crossing, log, limits => limits.Prefetch = 5);
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(Enumerable.Range(0, 8).Select(i => new Tap(i)));
        await started.Task.WaitAsync(Crossing.Limit);
        await Crossing.UntilAsync(async () => (await crossing.FiguresAsync("taps")).InHand == 5, "five are in hand");

        var stopping = fares.StopAsync();
        finish.SetResult();
        await stopping.WaitAsync(Crossing.Limit);

        Assert.Equal([0], log.Taps.Select(t => t.Data.Number));
        var left = await crossing.Reports.PeekAsync("taps", 10);
        Assert.Equal([1, 2, 3, 4, 5, 6, 7], left.Select(e => Crossing.NumberOf(e.Json)));
        Assert.All(left, e => Assert.Equal((QueuedState.Ready, 0), (e.State, e.Attempts)));

        // What piled up is worked off after the start.
        var second = new Log();
        await StartFaresAsync(crossing, second);
        await crossing.SettledAsync();
        Assert.Equal([1, 2, 3, 4, 5, 6, 7], second.Taps.Select(t => t.Data.Number));
    }

    [Fact]
    public async Task A_handler_that_takes_longer_than_the_limit_for_stopping_is_cancelled_and_its_event_given_back()
    {
        await using var crossing = new Crossing(new TPlace());
        var started = new TaskCompletionSource();
        var log = new Log
        {
            OnTap = async (delivery, cancel) =>
            {
                await (await delivery.BeginAsync(cancel))
                    .Connection!.ExecuteAsync("CREATE TABLE half_done (number INTEGER)");
                started.TrySetResult();
                await Task.Delay(Timeout.Infinite, cancel);
            },
        };
        var fares = await StartFaresAsync(crossing, log, limits => limits.StopLimit = TimeSpan.FromMilliseconds(50));
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1));
        await started.Task.WaitAsync(Crossing.Limit);
        await fares.StopAsync().WaitAsync(Crossing.Limit);
        var left = Assert.Single(await crossing.Reports.PeekAsync("taps", 10));
        Assert.Equal((QueuedState.Ready, 0), (left.State, left.Attempts));
        Assert.False(await crossing.Store("fares").HasTableAsync("half_done"));
    }

    [Theory]
    [InlineData(1, 1)]
    [InlineData(4, 2)]
    public async Task Prefetch_bounds_what_is_held_and_parallel_what_runs(int prefetch, int parallel)
    {
        await using var crossing = new Crossing(new TPlace());
        var (running, mostRunning) = (0, 0);
        using var step = new SemaphoreSlim(0);
        var log = new Log
        {
            OnTap = async (_, _) =>
            {
                var now = Interlocked.Increment(ref running);
                lock (step) mostRunning = Math.Max(mostRunning, now);
                await step.WaitAsync(CancellationToken.None);
                Interlocked.Decrement(ref running);
            },
        };
        await StartFaresAsync(crossing, log, limits => (limits.Prefetch, limits.Parallel) = (prefetch, parallel));
        const int Count = 30;
        await (await crossing.StartAsync("harbour")).PublishAsync(Enumerable.Range(0, Count).Select(i => new Tap(i)));

        for (var handled = 0; handled < Count; handled++)
        {
            var due = Math.Min(handled + parallel, Count);
            await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == due), $"{due} have begun");
            Assert.True((await crossing.FiguresAsync("taps")).InHand <= prefetch);
            step.Release();
        }
        await crossing.SettledAsync();
        Assert.Equal(parallel, mostRunning);
    }

    [Fact]
    public async Task Wrong_settings_stop_the_host_with_messages_that_name_them()
    {
        await using var crossing = new Crossing(new TPlace());
        var error = await Assert.ThrowsAsync<OptionsValidationException>(() => StartFaresAsync(
            crossing, new Log(),
                settings: new() { ["Courier:Receivers:taps:Prefetch"] = "0", ["Courier:Relay:BatchSize"] = "0" }));
        Assert.Contains("Courier:Receivers:taps:Prefetch must be 1 to 100,000, self-tuned or unlimited, but is 0",
            error.Message, StringComparison.Ordinal);
        Assert.Contains("Courier:Relay:BatchSize must be", error.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Without_an_inbox_there_is_no_transaction_and_the_error_says_so()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log { OnTap = (delivery, cancel) => delivery.BeginAsync(cancel) };
        await StartFaresAsync(crossing, log, limits => (limits.Inbox, limits.MaxAttempts) = (false, 1));
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1));
        await crossing.SettledAsync(deadLetters: 1);
        Assert.Contains("received without an inbox", (await crossing.DeadLetters.ReadAsync(null, 1))[0].Reason,
            StringComparison.Ordinal);
    }
}
