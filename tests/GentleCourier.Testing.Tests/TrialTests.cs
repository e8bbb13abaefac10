namespace GentleCourier.Testing.Tests;

/// <summary>A service whole, on each engine.</summary>
public sealed class TrialTests
{
    public static readonly TheoryData<string> Engines = ["sqlite", "postgres"];

    private static readonly DateTimeOffset Noon = new(2031, 6, 14, 12, 0, 0, TimeSpan.Zero);

    private static Trial New(string engine) => new(new TrialOptions { Start = Noon, Server = Servers.Of(engine) });

    private static async Task<(Trial Trial, TrialService Harbour, TrialService Fares)> StartAsync(
        string engine, Script? script = null, Action<QueueBinding>? queue = null, Action<CourierBuilder>? more = null)
    {
        var trial = New(engine);
        await trial.ReceivedElsewhereAsync<CardCharged>();
        var harbour = await trial.StartAsync("harbour", Services.Harbour);
        return (trial, harbour, await trial.StartAsync("fares", Services.Fares(script, queue, more)));
    }

    [Theory, MemberData(nameof(Engines))]
    public async Task What_is_published_is_handled_and_what_that_publishes_is_seen(string engine)
    {
        var (trial, harbour, fares) = await StartAsync(engine);
        await using var _ = trial;
        var id = await harbour.BoardAsync(
            "card-7", 250, new EventOptions { Extensions = new Dictionary<string, string> { ["gate"] = "2" } });
        await trial.RunUntilIdleAsync();

        Assert.Equal(Noon, trial.Now);
        var handled = Assert.Single(trial.Deliveries);
        Assert.Equal(
            (HandledAs.Handled, typeof(Charge), 1, "fares", id),
            (handled.Outcome, handled.Receiver, handled.Attempt, handled.Queue, handled.Event.Id));
        Assert.Equal(("fares", "2"), (handled.Service, handled.Event.Extensions["gate"]));
        Assert.Equal(new PassengerBoarded("card-7", 250), handled.Data<PassengerBoarded>());
        Assert.Equal(["harbour", "fares"], trial.Published.Select(p => p.Service));
        var charged = trial.Published[1];
        Assert.Equal(new CardCharged("card-7", 250), charged.Data<CardCharged>());
        Assert.Equal(
            ("card-7", "card-7", id),
            (charged.Event.Subject, charged.Event.PartitionKey, charged.Event.CausationId));
        Assert.Equal([("card-7", 250)], await fares.Services.ChargesAsync());
    }

    [Theory, MemberData(nameof(Engines))]
    public async Task Delays_before_further_attempts_are_passed_without_waiting(string engine)
    {
        var script = new Script
        {
            Before = (delivery, _) => delivery.Attempt < 4
                ? throw new InvalidOperationException("not yet") : Task.CompletedTask,
        };
        var (trial, harbour, fares) = await StartAsync(engine, script);
        await using var _ = trial;
        await harbour.BoardAsync("card-7");
        await trial.RunUntilIdleAsync();

        Assert.Equal([1, 2, 3, 4], trial.Deliveries.Select(d => d.Attempt));
        Assert.All(trial.Deliveries.SkipLast(1), d =>
        {
            Assert.Equal(HandledAs.ComesAgain, d.Outcome);
            Assert.Equal("not yet", d.Exception!.Message);
        });
        Assert.Equal(HandledAs.Handled, trial.Deliveries[^1].Outcome);
        // Each came as late as was said, and no later.
        for (var i = 1; i < 4; i++)
            Assert.InRange(trial.Deliveries[i].At - trial.Deliveries[i - 1].At - trial.Deliveries[i - 1].Delay!.Value,
                TimeSpan.FromMilliseconds(-1), TimeSpan.FromMilliseconds(1));
        Assert.Single(await fares.Services.ChargesAsync());
    }

    [Theory, MemberData(nameof(Engines))]
    public async Task After_its_last_attempt_an_event_is_set_aside_and_it_is_seen_why(string engine)
    {
        var script = new Script { Before = (_, _) => throw new InvalidOperationException("the card reader is broken") };
        var (trial, harbour, fares) = await StartAsync(engine, script);
        await using var _ = trial;
        await harbour.BoardAsync("card-7");
        await trial.RunUntilIdleAsync();

        var last = trial.SingleSetAside<PassengerBoarded>();
        Assert.Contains("the card reader is broken", Assert.Throws<TrialException>(trial.NothingSetAside).Message,
            StringComparison.Ordinal);
        Assert.Contains("the card reader is broken", last.Reason, StringComparison.Ordinal);
        Assert.Equal(new ReceiverOptions().MaxAttempts, last.Attempt);
        Assert.Empty(await fares.Services.ChargesAsync());
        Assert.Equal("harbour", Assert.Single(trial.Published).Service);
    }

    [Theory, MemberData(nameof(Engines))]
    public async Task Brakes_are_passed_without_waiting(string engine)
    {
        var isAway = true;
        var script = new Script
        {
            Before = (_, _) => isAway ? throw new HttpRequestException("the bank is away") : Task.CompletedTask,
        };
        var (trial, harbour, fares) = await StartAsync(engine, script);
        await using var _ = trial;
        for (var i = 0; i < 12; i++) await harbour.BoardAsync($"card-{i:00}");
        await trial.AdvanceByAsync(TimeSpan.FromMinutes(20));
        Assert.DoesNotContain(trial.Deliveries, d => d.Outcome is HandledAs.Handled);
        isAway = false;
        await trial.RunUntilIdleAsync();

        Assert.Equal(12, trial.Deliveries.Count(d => d.Outcome == HandledAs.Handled));
        Assert.Equal(12, (await fares.Services.ChargesAsync()).Count);
    }

    [Theory, MemberData(nameof(Engines))]
    public async Task What_is_for_later_comes_when_it_is_due(string engine)
    {
        var (trial, harbour, _) = await StartAsync(engine);
        await using var __ = trial;
        await harbour.BoardAsync("card-7", options: new EventOptions { Due = DueTime.In(TimeSpan.FromDays(40)) });
        await harbour.BoardAsync("card-8", options: new EventOptions { Due = DueTime.At(Noon.AddHours(1)) });
        await trial.AdvanceByAsync(TimeSpan.FromMinutes(59));
        Assert.Empty(trial.Deliveries);
        await trial.AdvanceByAsync(TimeSpan.FromMinutes(1));
        Assert.Equal("card-8", Assert.Single(trial.Deliveries).Data<PassengerBoarded>().Card);
        await trial.RunUntilIdleAsync();
        Assert.Equal(["card-8", "card-7"], trial.Deliveries.Select(d => d.Data<PassengerBoarded>().Card));
        Assert.Equal(Noon.AddDays(40), trial.Now);
    }

    [Theory, MemberData(nameof(Engines))]
    public async Task Schedules_fire_when_time_is_advanced_and_never_otherwise(string engine)
    {
        var script = new Script();
        var (trial, harbour, _) = await StartAsync(
            engine, script, q => q.Handle<PassengerBoarded, Charge>().Handle<AccountsDue, Close>(),
            courier => courier.Schedule("close", new AccountsDue(), s => s.Cron = "0 23 * * *"));
        await using var __ = trial;
        // Due after the next firing: it stays.
        await harbour.BoardAsync("card-7", options: new EventOptions { Due = DueTime.In(TimeSpan.FromHours(20)) });
        await trial.RunUntilIdleAsync();
        Assert.Equal((Noon, 0), (trial.Now, trial.Deliveries.Count));

        await trial.AdvanceToAsync(Noon.AddDays(3));
        Assert.Equal(
            ["close@2031-06-14T23:00:00Z", "close@2031-06-15T23:00:00Z", "close@2031-06-16T23:00:00Z"], script.Seen);
        Assert.Equal(Noon.AddHours(11), trial.Deliveries[0].At);
        Assert.Equal(Noon.AddHours(20), trial.Deliveries[1].At);
        Assert.Equal(4, trial.Deliveries.Count);
    }

    [Theory, MemberData(nameof(Engines))]
    public async Task Batches_rates_and_key_order_go_by_the_clock_of_the_trial(string engine)
    {
        var script = new Script();
        var (trial, harbour, fares) = await StartAsync(engine, script, q =>
        {
            q.HandleBatches<PassengerBoarded, ChargeTogether>();
            (q.Options.BatchSize, q.Options.BatchWait, q.Options.MaxPerSecond) = (7, TimeSpan.FromSeconds(30), 1);
        });
        await using var _ = trial;
        for (var i = 0; i < 20; i++) await harbour.BoardAsync($"card-{i:00}", i == 5 ? -1 : 250);
        await trial.RunUntilIdleAsync();
        Assert.Equal(19, (await fares.Services.ChargesAsync()).Count);
        Assert.Equal("nobody is paid for going on board", Assert.Single(
            trial.Deliveries, d => d.Outcome == HandledAs.SetAside).Reason);
        Assert.Equal(20, script.Seen.Sum(int.Parse));
        // The last one is never full, and no more than one a second begins.
        Assert.InRange(trial.Now - Noon, TimeSpan.FromSeconds(12), TimeSpan.FromMinutes(3));
    }

    [Theory, MemberData(nameof(Engines))]
    public async Task What_is_published_while_a_service_is_stopped_is_worked_off_when_it_starts(string engine)
    {
        var (trial, harbour, fares) = await StartAsync(engine);
        await using var _ = trial;
        await harbour.BoardAsync("card-1");
        await trial.RunUntilIdleAsync();
        await trial.StopAsync(fares);
        Assert.True(fares.IsStopped);
        await harbour.BoardAsync("card-2");
        await trial.AdvanceByAsync(TimeSpan.FromDays(100));
        Assert.Single(trial.Deliveries);
        var again = await trial.StartAsync("fares", Services.Fares());
        await trial.RunUntilIdleAsync();
        Assert.Equal(2, trial.Deliveries.Count(d => d.Outcome == HandledAs.Handled));
        Assert.Equal([("card-1", 250), ("card-2", 250)], await again.Services.ChargesAsync());
    }

    [Theory, MemberData(nameof(Engines))]
    public async Task Two_instances_share_a_queue_and_a_store(string engine)
    {
        var (trial, harbour, fares) = await StartAsync(engine);
        await using var _ = trial;
        await trial.StartAsync("fares", Services.Fares());
        for (var i = 0; i < 50; i++) await harbour.BoardAsync($"card-{i:00}");
        await trial.RunUntilIdleAsync();
        await trial.StopAsync(fares);
        for (var i = 50; i < 60; i++) await harbour.BoardAsync($"card-{i:00}");
        await trial.AdvanceByAsync(TimeSpan.FromDays(200));
        await trial.RunUntilIdleAsync();
        Assert.Equal(60, trial.Deliveries.Count(d => d.Outcome == HandledAs.Handled));
        Assert.Equal(60, trial.Published.Count(p => p.Is<CardCharged>()));
    }

    [Theory, InlineData(true), InlineData(false)]
    public async Task Timers_of_the_service_fire_each_in_its_time(bool ticks)
    {
        await using var trial = New("sqlite");
        await trial.ReceivedElsewhereAsync<PassengerBoarded>();
        await trial.StartAsync("harbour", builder =>
        {
            Services.Harbour(builder);
            if (ticks) builder.Services.AddHostedService<Ticking>();
            else builder.Services.AddHostedService<Hourly>();
        });
        await trial.AdvanceByAsync(TimeSpan.FromDays(1));
        Assert.Equal(
            Enumerable.Range(1, 24).Select(h => Noon.AddHours(h)), trial.Published.Select(p => p.Event.Time!.Value));
    }

    [Fact]
    public async Task A_service_that_cannot_be_stopped_says_so()
    {
        await using var trial = New("sqlite");
        var harbour = await trial.StartAsync("harbour", builder =>
        {
            Services.Harbour(builder);
            builder.Services.AddHostedService<Stubborn>();
        });
        var problem = await Assert.ThrowsAnyAsync<Exception>(() => trial.StopAsync(harbour));
        Assert.Contains("not yet", problem.ToString(), StringComparison.Ordinal);
    }

    private sealed class Stubborn : IHostedService
    {
        public Task StartAsync(CancellationToken cancellationToken) => Task.CompletedTask;

        public Task StopAsync(CancellationToken cancellationToken) => throw new InvalidOperationException("not yet");
    }

    private sealed class Ticking(TimeProvider clock, IOutbox outbox) : BackgroundService
    {
        protected override async Task ExecuteAsync(CancellationToken stoppingToken)
        {
            using var timer = new PeriodicTimer(TimeSpan.FromHours(1), clock);
            while (await timer.WaitForNextTickAsync(stoppingToken))
                await outbox.AddAloneAsync(new PassengerBoarded("card-1", 1), null, stoppingToken);
        }
    }

    private sealed class Hourly(TimeProvider clock, IOutbox outbox) : BackgroundService
    {
        protected override async Task ExecuteAsync(CancellationToken stoppingToken)
        {
            while (true)
            {
                await Task.Delay(TimeSpan.FromHours(1), clock, stoppingToken);
                await outbox.AddAloneAsync(new PassengerBoarded("card-1", 1), null, stoppingToken);
            }
        }
    }
}
