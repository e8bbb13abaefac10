namespace GentleCourier.Testing.Tests;

/// <summary>A trial that cannot go on says so within its limit, and what is to be done.</summary>
public sealed class TrialFailureTests
{
    private static Trial New(TimeSpan? limit = null) =>
        new(new TrialOptions { Limit = limit ?? TimeSpan.FromSeconds(1), MostDeliveries = 200 });

    private static async Task<TrialException> FailsAsync(Trial trial, params string[] says)
    {
        var problem = await Assert.ThrowsAsync<TrialException>(() => trial.RunUntilIdleAsync());
        Assert.All(says, said => Assert.Contains(said, problem.Message, StringComparison.Ordinal));
        return problem;
    }

    [Fact]
    public async Task A_handler_that_never_ends()
    {
        await using var trial = New();
        var harbour = await trial.StartAsync("harbour", Services.Harbour);
        await trial.StartAsync("fares", Services.Fares(
            new Script { Before = (_, cancel) => Task.Delay(Timeout.Infinite, cancel) }));
        var id = await harbour.BoardAsync("card-7");
        await FailsAsync(
            trial, "a handler does not return", "Charge of service 'fares', queue 'fares', has been running for",
            $"skerryline.passenger-boarded {id}", "TrialOptions.Limit",
            "harbour published skerryline.passenger-boarded");
    }

    [Fact]
    public async Task A_handler_that_never_ends_and_does_not_listen_keeps_nobody_from_ending()
    {
        var never = new TaskCompletionSource();
        var trial = New();
        var harbour = await trial.StartAsync("harbour", Services.Harbour);
        await trial.StartAsync("fares", Services.Fares(new Script { Before = (_, _) => never.Task }));
        await harbour.BoardAsync("card-7");
        await FailsAsync(trial, "a handler does not return");
        await trial.DisposeAsync();
        never.SetResult();
    }

    [Fact]
    public async Task A_handler_that_waits_for_the_clock_which_stands_meanwhile()
    {
        await using var trial = New();
        var harbour = await trial.StartAsync("harbour", Services.Harbour);
        await trial.StartAsync("fares", Services.Fares(new Script
        {
            Before = (_, cancel) => Task.Delay(TimeSpan.FromMinutes(1), trial.Clock, cancel),
        }));
        await harbour.BoardAsync("card-7");
        await FailsAsync(trial, "The trial's clock stands while a handler runs", "RetryException");
    }

    [Fact]
    public async Task An_event_that_nobody_receives()
    {
        await using var trial = New();
        var harbour = await trial.StartAsync("harbour", Services.Harbour);
        var id = await harbour.BoardAsync("card-7");
        await FailsAsync(
            trial, $"skerryline.passenger-boarded {id} in the outbox of 'harbour'", "trial.ReceivedElsewhereAsync");
        // As the message says.
        await trial.ReceivedElsewhereAsync<PassengerBoarded>();
        await trial.RunUntilIdleAsync();
        Assert.Equal(id, Assert.Single(trial.Published).Event.Id);
    }

    [Fact]
    public async Task An_expectation_that_is_not_met()
    {
        await using var trial = New();
        await trial.ReceivedElsewhereAsync<PassengerBoarded>();
        var harbour = await trial.StartAsync("harbour", Services.Harbour);
        var (one, two) = (await harbour.BoardAsync("card-1"), await harbour.BoardAsync("card-2"));
        await trial.RunUntilIdleAsync();

        Assert.Equal(two, trial.SinglePublished<PassengerBoarded>(p => p.Card == "card-2").Event.Id);
        trial.NothingSetAside();
        Says(() => trial.SinglePublished<PassengerBoarded>(),
            "expected one skerryline.passenger-boarded to be published", "there are 2:", one, two);
        Says(() => trial.SinglePublished<PassengerBoarded>(p => p.Cents == 1), "there is none; 2 of", one, two);
        Says(() => trial.SinglePublished<CardCharged>(), "there is none\nWhat has happened so far:", one, two);
        Says(() => trial.SingleHandled<PassengerBoarded>(), "to be handled, and there is none", one, two);

        void Says(Func<object> expect, params string[] says)
        {
            var message = Assert.Throws<TrialException>(expect).Message;
            Assert.All(says, said => Assert.Contains(said, message, StringComparison.Ordinal));
        }
    }

    [WireType("skerryline.echo")]
    public sealed record Echo(int Number);

    public sealed class Repeat(IOutbox outbox) : IReceiver<Echo>
    {
        public async Task HandleAsync(Delivery<Echo> delivery, CancellationToken cancellationToken)
        {
            var transaction = await delivery.BeginAsync(cancellationToken);
            await outbox.AddAsync(
                transaction, new Echo(delivery.Data.Number + 1), new() { Due = DueTime.In(TimeSpan.FromHours(1)) },
                cancellationToken);
        }
    }

    [Fact]
    public async Task What_publishes_itself_anew_for_ever()
    {
        await using var trial = New(TimeSpan.FromSeconds(10));
        var service = await trial.StartAsync("echo", Services.Fares(queue: q => q.Handle<Echo, Repeat>()));
        await service.Services.GetRequiredService<IOutbox>().AddAloneAsync(new Echo(1));
        await FailsAsync(trial, "more than 200 deliveries", "TrialOptions.MostDeliveries", "the last 40 of it");
    }

    private sealed class EverySecond(TimeProvider clock) : BackgroundService
    {
        protected override async Task ExecuteAsync(CancellationToken stoppingToken)
        {
            using var timer = new PeriodicTimer(TimeSpan.FromSeconds(1), clock);
            while (await timer.WaitForNextTickAsync(stoppingToken)) continue;
        }
    }

    [Fact]
    public async Task Timers_that_make_the_way_endless()
    {
        await using var trial = New();
        var harbour = await trial.StartAsync("harbour", builder =>
        {
            Services.Harbour(builder);
            builder.Services.AddHostedService<EverySecond>();
        });
        await harbour.BoardAsync("card-7", options: new EventOptions { Due = DueTime.In(TimeSpan.FromDays(365)) });
        await FailsAsync(trial, "nothing has happened but timers of the services' own", "for later");
    }

    [Fact]
    public async Task A_service_without_a_courier_or_of_no_name()
    {
        await using var trial = New();
        var problem = await Assert.ThrowsAsync<TrialException>(() => trial.StartAsync("harbour", _ => { }));
        Assert.Contains("AddGentleCourier was not called", problem.Message, StringComparison.Ordinal);
        await Assert.ThrowsAsync<ArgumentException>(() => trial.StartAsync("The Harbour!", Services.Harbour));
    }

    [Fact]
    public async Task Options_and_times_that_cannot_be()
    {
        Assert.Contains("Limit", Assert.Throws<ArgumentOutOfRangeException>(
            () => new Trial(new TrialOptions { Limit = TimeSpan.Zero })).Message, StringComparison.Ordinal);
        Assert.Throws<ArgumentOutOfRangeException>(() => new Trial(new TrialOptions { MostDeliveries = 0 }));
        await using var trial = New();
        await Assert.ThrowsAsync<ArgumentOutOfRangeException>(() => trial.AdvanceByAsync(TimeSpan.FromSeconds(-1)));
    }

    [Fact]
    public async Task Two_calls_at_once()
    {
        var handling = new TaskCompletionSource();
        await using var trial = New(TimeSpan.FromMinutes(1));
        await trial.ReceivedElsewhereAsync<CardCharged>();
        var harbour = await trial.StartAsync("harbour", Services.Harbour);
        await trial.StartAsync("fares", Services.Fares(new Script { Before = (_, _) => handling.Task }));
        await harbour.BoardAsync("card-7");
        var first = trial.RunUntilIdleAsync();
        await Assert.ThrowsAsync<InvalidOperationException>(() => trial.RunUntilIdleAsync());
        handling.SetResult();
        await first;
        await trial.RunUntilIdleAsync();
    }

    [Fact]
    public async Task What_a_service_is_started_without_fails_as_its_program_would()
    {
        await using var trial = New();
        var problem = await Assert.ThrowsAsync<CourierException>(() => trial.StartAsync("fares", builder =>
            builder.Services.AddGentleCourier(courier => courier.UseSqlite()
                .Receive("fares", q => q.Handle<PassengerBoarded, Charge>()))));
        Assert.Contains("Script", problem.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_trial_leaves_nothing_behind()
    {
        var made = new List<string>();
        await using (var trial = New())
        {
            foreach (var name in new[] { "harbour", "harbour", "jetty" })
            {
                var service = await trial.StartAsync(name, Services.Harbour);
                var file = service.Services.GetRequiredService<IStore>().DisplayName["sqlite:".Length..];
                Assert.True(File.Exists(file));
                made.Add(Path.GetDirectoryName(file)!);
            }
        }
        Assert.All(made, folder => Assert.False(Directory.Exists(folder)));
    }
}
