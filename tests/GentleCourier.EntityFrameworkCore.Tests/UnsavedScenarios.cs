using System.Collections.Concurrent;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Postgres.Tests;
using GentleCourier.Sqlite.Tests;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace GentleCourier.EntityFrameworkCore.Tests;

/// <summary>What a receiver, or anybody else, leaves in a context and saves nowhere.</summary>
public abstract class UnsavedScenarios<TPlace> where TPlace : Place, new()
{
    /// <summary>What the receiver does; and the attempts that it was called for.</summary>
    public sealed class Plan
    {
        public Func<HarbourContext, int, Task> Handle { get; set; } = (_, _) => Task.CompletedTask;

        public ConcurrentQueue<int> Attempts { get; } = [];
    }

    private sealed class Receiver(HarbourContext context, Plan plan) : IReceiver<Tap>
    {
        public async Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
        {
            plan.Attempts.Enqueue(delivery.Attempt);
            await plan.Handle(context, delivery.Data.Number);
        }
    }

    private static async Task<IHost> StartAsync(
        Crossing crossing, Plan plan, Reports log, Registered registered, bool enlists)
    {
        var host = crossing.Build(
            "deck",
            courier =>
            {
                courier.Receive("taps", queue =>
                {
                    (queue.Options.MaxAttempts, queue.Options.RetriesAtOnce) = (2, 1);
                    if (enlists) queue.Enlist<HarbourContext>();
                    queue.Handle<Tap, Receiver>();
                });
                courier.UseDbContext<HarbourContext>();
            },
            new() { ["Courier:Relay:Enabled"] = "false" },
            services =>
            {
                services.AddSingleton(plan);
                services.AddSingleton<ILoggerFactory>(log);
                if (registered == Registered.Pooled) services.AddDbContextPool<HarbourContext>(
                    (sp, o) => o.UseStore(sp.GetRequiredService<IStorePort>()));
                else services.AddDbContext<HarbourContext>((sp, o) => o.UseStore(sp.GetRequiredService<IStorePort>()));
            });
        await using (var scope = host.Services.CreateAsyncScope())
            await scope.ServiceProvider.GetRequiredService<HarbourContext>().Database.EnsureCreatedAsync();
        await host.StartAsync().WaitAsync(Crossing.Limit);
        return host;
    }

    private static async Task<List<int>> SavedAsync(IHost host)
    {
        await using var scope = host.Services.CreateAsyncScope();
        return await scope.ServiceProvider.GetRequiredService<HarbourContext>().Boardings.OrderBy(b => b.Tap)
            .Select(b => b.Tap).ToListAsync();
    }

    private static Task AddAsync(HarbourContext context, int number)
    {
        context.Boardings.Add(new Boarding { Tap = number });
        context.AddEvent(new Charged(number));
        return Task.CompletedTask;
    }

    /// <summary>It would be accepted, and its changes and events would be nowhere.</summary>
    [Theory]
    [InlineData(Registered.Scoped)]
    [InlineData(Registered.Pooled)]
    public async Task A_receiver_that_forgets_to_save_is_told_and_no_event_is_accepted_or_set_aside(
        Registered registered)
    {
        await using var crossing = new Crossing(new TPlace());
        var (plan, log) = (new Plan { Handle = AddAsync }, new Reports());
        var host = await StartAsync(crossing, plan, log, registered, enlists: false);
        await crossing.Broker().PublishAsync([Crossing.TapEvent(1)]);
        await Crossing.UntilAsync(() => Task.FromResult(plan.Attempts.Count > 3), "it is tried again and again");
        Assert.Empty(await SavedAsync(host));
        Assert.Contains(log.Lines, l => l.Contains(
            "Receiver has returned, and nobody saves what it changed in HarbourContext (1 Boarding Added, "
            + "1 OutboxEvent Added): say queue.Enlist<HarbourContext>() where 'taps' is bound",
            StringComparison.Ordinal));

        plan.Handle = async (context, number) =>
        {
            await AddAsync(context, number);
            await context.SaveChangesAsync();
        };
        await crossing.SettledAsync();
        Assert.Equal([1], await SavedAsync(host));
        Assert.All(plan.Attempts, attempt => Assert.Equal(1, attempt));
    }

    /// <summary>Each trial saves once more: without an end that would be as bad.</summary>
    [Fact]
    public async Task One_that_has_saved_by_itself_before_runs_out_of_attempts()
    {
        await using var crossing = new Crossing(new TPlace());
        var (plan, log) = (new Plan(), new Reports());
        plan.Handle = async (context, number) =>
        {
            await AddAsync(context, number);
            await context.SaveChangesAsync();
            context.Boardings.Add(new Boarding { Tap = number + 100 });
        };
        var host = await StartAsync(crossing, plan, log, Registered.Scoped, enlists: false);
        await crossing.Broker().PublishAsync([Crossing.TapEvent(1)]);
        await crossing.SettledAsync(deadLetters: 1);
        Assert.Equal([1, 1], await SavedAsync(host));
        Assert.Contains("1 Boarding Added", Assert.Single(await crossing.DeadLetters.ReadAsync(null, 2)).Reason,
            StringComparison.Ordinal);
    }

    /// <summary>What is enlisted is saved, what is dropped is meant so, and what was let go is nobody's.</summary>
    [Theory]
    [InlineData("enlisted", true)]
    [InlineData("dropped", false)]
    [InlineData("let go", false)]
    [InlineData("untouched", false)]
    public async Task What_is_not_forgotten_is_handled_at_once(string how, bool enlists)
    {
        await using var crossing = new Crossing(new TPlace());
        var (plan, log) = (new Plan(), new Reports());
        plan.Handle = async (context, number) =>
        {
            if (how != "untouched") await AddAsync(context, number);
            if (how == "dropped") context.ChangeTracker.Clear();
            if (how == "let go") await context.DisposeAsync();
        };
        var host = await StartAsync(crossing, plan, log, Registered.Scoped, enlists);
        await crossing.Broker().PublishAsync([Crossing.TapEvent(1)]);
        await crossing.SettledAsync();
        Assert.Equal([1], plan.Attempts);
        Assert.Equal(enlists ? [1] : [], await SavedAsync(host));
        Assert.Equal(how == "let go", log.Lines.Any(l => l.Contains(
            "HarbourContext was let go with an event test.charged that had been added to it and was never saved",
            StringComparison.Ordinal)));
    }

    /// <summary>Outside of handlers, too: a request that forgets has answered that all is well.</summary>
    [Theory]
    [InlineData(Registered.Scoped)]
    [InlineData(Registered.Pooled)]
    public async Task An_event_that_was_added_and_never_saved_is_told_of(Registered registered)
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Reports();
        var host = await StartAsync(crossing, new Plan(), log, registered, enlists: false);
        await RequestAsync(saves: true);
        await RequestAsync(saves: false);
        // A pool says so when it gives the context out again.
        await RequestAsync(saves: true);
        var line = Assert.Single(log.Lines, l => l.Contains("was let go", StringComparison.Ordinal));
        Assert.Contains("an event test.charged that had been added to it", line, StringComparison.Ordinal);

        async Task RequestAsync(bool saves)
        {
            await using var scope = host.Services.CreateAsyncScope();
            var context = scope.ServiceProvider.GetRequiredService<HarbourContext>();
            context.AddEvent(new Charged(1), new() { Due = saves ? null : DueTime.In(TimeSpan.FromHours(1)) });
            if (saves) await context.SaveChangesAsync();
        }
    }
}

public sealed class PostgresUnsavedTests : UnsavedScenarios<Databases>;

public sealed class SqliteUnsavedTests : UnsavedScenarios<Folder>;
