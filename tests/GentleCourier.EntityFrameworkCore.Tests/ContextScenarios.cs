using GentleCourier.Conformance;
using GentleCourier.Engines;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Storage;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.EntityFrameworkCore.Tests;

/// <summary>How a service may register its context.</summary>
public enum Registered
{
    Scoped,
    Pooled,
    Retrying,
}

/// <summary>What a test wants of the receiver, and what that did.</summary>
public sealed class Steps
{
    public System.Collections.Concurrent.ConcurrentBag<(int Number, int Attempt)> Attempts { get; } = [];

    public bool BeginsItself { get; init; }

    public bool Saves { get; init; } = true;

    public Func<Delivery<Tap>, HarbourContext, Task> Then { get; init; } = (_, _) => Task.CompletedTask;
}

/// <summary>Publishing and receiving with a context, on each engine.</summary>
public abstract class ContextScenarios<TPlace> where TPlace : Place, new()
{
    private static readonly Dictionary<string, string?> Patient =
        new()
        {
            ["Courier:Receivers:taps:FirstDelay"] = "00:00:00.001",
            ["Courier:Receivers:taps:MaxDelay"] = "00:00:00.010",
        };

    private static void AddContext(IServiceCollection services, Registered registered)
    {
        if (registered == Registered.Pooled)
            services.AddDbContextPool<HarbourContext>((sp, o) => o.UseStore(sp.GetRequiredService<IStorePort>()));
        else services.AddDbContext<HarbourContext>(
            (sp, o) => o.UseStore(sp.GetRequiredService<IStorePort>(), registered == Registered.Retrying));
    }

    /// <summary>A service with a context, and the context's tables.</summary>
    private static async Task<IHost> StartAsync(
        Crossing crossing, string service, Action<CourierBuilder>? configure = null,
            Registered registered = Registered.Scoped, Action<IServiceCollection>? services = null,
        Dictionary<string, string?>? settings = null)
    {
        var host = crossing.Build(
            service,
            courier =>
            {
                courier.UseDbContext<HarbourContext>();
                configure?.Invoke(courier);
            },
            settings ?? Patient,
            s =>
            {
                AddContext(s, registered);
                services?.Invoke(s);
            });
        await using (
            var scope =
            host.Services.CreateAsyncScope()) await scope.ServiceProvider.GetRequiredService<HarbourContext>()
            .Database.EnsureCreatedAsync();
        await host.StartAsync().WaitAsync(Crossing.Limit);
        return host;
    }

    private static async Task InContextAsync(IHost host, Func<HarbourContext, Task> use)
    {
        await using var scope = host.Services.CreateAsyncScope();
        await use(scope.ServiceProvider.GetRequiredService<HarbourContext>());
    }

    private static async Task<List<int>> BoardingsAsync(IHost host)
    {
        await using var scope = host.Services.CreateAsyncScope();
        return await scope.ServiceProvider.GetRequiredService<HarbourContext>().Boardings.OrderBy(b => b.Tap)
            .Select(b => b.Tap).ToListAsync();
    }

    private static async Task<List<int>> OutboxAsync(IHost host) =>
        [.. (await host.Store().ReadOutboxAsync(10_000)).Rows.Select(r => Crossing.NumberOf(r.Event.Json))];

    private static readonly Dictionary<string, string?> NoRelay = new() { ["Courier:Relay:Enabled"] = "false" };

    [Fact]
    public async Task Contexts_of_a_factory_and_others_of_the_process_publish_through_one_outbox()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = crossing.Build(
            "harbour", c => c.UseDbContext<HarbourContext>().UseDbContext<QuayContext>(), NoRelay,
            s =>
            {
                s.AddDbContextFactory<HarbourContext>((sp, o) => o.UseStore(sp.GetRequiredService<IStorePort>()));
                s.AddDbContext<QuayContext>((sp, o) => o.UseStore(sp.GetRequiredService<IStorePort>()));
            });
        var factory = harbour.Services.GetRequiredService<IDbContextFactory<HarbourContext>>();
        await using (var context = await factory.CreateDbContextAsync())
        {
            await context.Database.EnsureCreatedAsync();
            await harbour.StartAsync().WaitAsync(Crossing.Limit);
            context.AddEvent(new Tap(1));
            await context.SaveChangesAsync();
        }
        await using var scope = harbour.Services.CreateAsyncScope();
        var quay = scope.ServiceProvider.GetRequiredService<QuayContext>();
        quay.AddEvent(new Tap(2));
        await quay.SaveChangesAsync();
        Assert.Equal([1, 2], await OutboxAsync(harbour));
    }

    [Fact]
    public async Task Events_for_later_are_saved_moved_and_cancelled_with_the_changes_of_a_context()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log();
        await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()), services: s => s.AddSingleton(log));
        var harbour = await StartAsync(crossing, "harbour", settings: []);
        var later = harbour.Services.GetRequiredService<ILaterEvents>();
        await InContextAsync(harbour, async context =>
        {
            context.Boardings.Add(new Boarding { Tap = 1 });
            context.AddEvents([
                EventDraft.Of(new Tap(1), new() { Id = "tap-1", Due = DueTime.At(DateTimeOffset.UtcNow.AddHours(1)) }),
                EventDraft.Of(new Tap(2), new() { Id = "tap-2", Due = DueTime.In(TimeSpan.FromHours(2)) })]);
            Assert.Empty(await later.ListAsync());
            await context.SaveChangesAsync();
            // Nothing of it is saved again.
            await context.SaveChangesAsync();
        });
        var waiting = await later.ListAsync();
        Assert.Equal(["tap-1", "tap-2"], waiting.Select(e => e.Id));
        Assert.InRange((waiting[1].Due - waiting[0].Due).TotalHours, 0.9, 1.1);

        await InContextAsync(harbour, async context =>
        {
            await using var transaction = await context.Database.BeginTransactionAsync();
            var work = transaction.GetDbTransaction();
            // It is told with the commit, which comes later.
            context.AddEvent(new Tap(3), new() { Due = DueTime.In(TimeSpan.FromMilliseconds(1)) });
            await context.SaveChangesAsync();
            Assert.Equal(1, await later.CancelAsync(new LaterFilter { Id = "tap-1" }, work));
            Assert.Equal(1, await later.MoveAsync(new LaterFilter { Id = "tap-2" }, DueTime.In(TimeSpan.Zero), work));
            await transaction.CommitAsync();
        });
        await Crossing.UntilAsync(() => Task.FromResult(log.Taps.Count == 2), "both have come");
        Assert.Equal([2, 3], log.Taps.Select(t => t.Data.Number).Order());
        Assert.Empty(await later.ListAsync());
    }

    [Theory]
    [InlineData(Registered.Scoped)]
    [InlineData(Registered.Pooled)]
    [InlineData(Registered.Retrying)]
    public async Task Changes_and_events_are_saved_together_or_not_at_all(Registered registered)
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await StartAsync(crossing, "harbour", registered: registered, settings: NoRelay);
        var id = "";
        await InContextAsync(harbour, async context =>
        {
            context.Boardings.Add(new Boarding { Tap = 1 });
            id = context.AddEvent(new Tap(1), new() { Subject = "a passenger", PartitionKey = "card-1" });
            await context.SaveChangesAsync();
        });
        await InContextAsync(harbour, async context =>
        {
            // The key is there already: neither is written.
            context.Boardings.Add(new Boarding { Id = 1, Tap = 2 });
            context.AddEvent(new Tap(2));
            await Assert.ThrowsAsync<DbUpdateException>(() => context.SaveChangesAsync());
        });
        await InContextAsync(harbour, context =>
        {
            // As a service may do that saves synchronously.
            context.Boardings.Add(new Boarding { Tap = 3 });
            context.AddEvent(new Tap(3), new() { Id = "gate-7-0003" });
#pragma warning disable CA1849, MA0042
            context.SaveChanges();
#pragma warning restore CA1849, MA0042
            return Task.CompletedTask;
        });
        await InContextAsync(harbour, context => context.Database.CreateExecutionStrategy().ExecuteAsync(async () =>
        {
            await using (var transaction = await context.Database.BeginTransactionAsync())
            {
                context.AddEvent(new Tap(4));
                await context.SaveChangesAsync();
                await transaction.RollbackAsync();
            }
            await using (var transaction = await context.Database.BeginTransactionAsync())
            {
                context.Boardings.Add(new Boarding { Tap = 5 });
                await context.SaveChangesAsync();
                context.AddEvent(new Tap(5));
                await context.SaveChangesAsync();
                await transaction.CommitAsync();
            }
        }));

        Assert.Equal([1, 3, 5], await BoardingsAsync(harbour));
        Assert.Equal([1, 3, 5], await OutboxAsync(harbour));
        var rows = (await harbour.Store().ReadOutboxAsync(10)).Rows;
        Assert.Equal((id, "test.tap", "card-1"), (rows[0].Event.Id, rows[0].Event.Type, rows[0].Event.PartitionKey));
        Assert.Equal("gate-7-0003", rows[1].Event.Id);
        var read = CourierEvent.Read(rows[0].Event.Json);
        Assert.Equal(("/test/harbour", "a passenger"), (read.Source, read.Subject));
        Assert.InRange((await harbour.Store().ReadOutboxFiguresAsync()).OldestAge!.Value, TimeSpan.FromSeconds(-1),
            Crossing.Limit);
    }

    [Fact]
    public async Task Events_leave_in_the_order_in_which_they_were_added()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await StartAsync(crossing, "harbour", settings: NoRelay);
        await InContextAsync(harbour, async context =>
        {
            // More than fit into one round trip, mixed with changes.
            foreach (var number in Enumerable.Range(0, 500))
            {
                if (number % 3 == 0) context.Boardings.Add(new Boarding { Tap = number });
                context.AddEvent(new Tap(number), new() { PartitionKey = "card-1" });
            }
            await context.SaveChangesAsync();
            Assert.All(context.ChangeTracker.Entries(), e => Assert.IsType<Boarding>(e.Entity));
            context.AddEvents(
                Enumerable.Range(500, 100).Select(
                    number => EventDraft.Of(new Tap(number), new() { PartitionKey = "card-1" })));
            await context.SaveChangesAsync();
        });
        Assert.Equal(Enumerable.Range(0, 600), await OutboxAsync(harbour));
    }

    [Fact]
    public async Task What_is_saved_without_being_accepted_is_saved_again_with_its_events()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await StartAsync(crossing, "harbour", settings: NoRelay);
        await InContextAsync(harbour, async context =>
        {
            context.Boardings.Add(new Boarding { Tap = 1 });
            context.AddEvent(new Tap(1));
            await using (await context.Database.BeginTransactionAsync()) await context.SaveChangesAsync(
                acceptAllChangesOnSuccess: false);
            await context.SaveChangesAsync();
        });
        Assert.Equal([1], await BoardingsAsync(harbour));
        Assert.Equal([1], await OutboxAsync(harbour));
    }

    [WireType("test.cyclic")]
    private sealed record Cyclic(int Number)
    {
        public Cyclic? Next { get; set; }
    }

    [Fact]
    public async Task What_cannot_be_published_is_refused_when_it_is_added_and_leaves_nothing_behind()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await StartAsync(crossing, "harbour", settings: NoRelay);
        await InContextAsync(harbour, async context =>
        {
            var cyclic = new Cyclic(1);
            cyclic.Next = cyclic;
            context.Boardings.Add(new Boarding { Tap = 1 });
            var refused = Assert.Throws<ContractException>(() => context.AddEvents(
                [EventDraft.Of(new Tap(1)), EventDraft.Of(cyclic)]));
            Assert.Contains("test.cyclic, field 'next", refused.Message, StringComparison.Ordinal);
            await context.SaveChangesAsync();
        });
        Assert.Equal([1], await BoardingsAsync(harbour));
        Assert.Empty(await OutboxAsync(harbour));
    }

    [Fact]
    public async Task The_relay_wakes_for_events_of_a_context()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        // Its look of its own accord comes after minutes.
        var harbour = await StartAsync(crossing, "harbour", settings: new() { ["Courier:Relay:Lease"] = "00:10:00" });
        for (var number = 0; number < 20; number++)
        {
            await Crossing.UntilAsync(async () => (await harbour.Store().ReadOutboxFiguresAsync()).Waiting == 0,
                $"tap {number - 1} has been relayed");
            await InContextAsync(harbour, async context =>
            {
                await using var transaction = number % 2 == 0 ? null : await context.Database.BeginTransactionAsync();
                context.AddEvent(new Tap(number));
                await context.SaveChangesAsync();
                if (transaction is not null) await transaction.CommitAsync();
            });
        }
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { Ready: 20 }, "all have been relayed");
    }

    /// <summary>Writes down who boarded, and publishes it, by what the test says.</summary>
    private sealed class BoardingReceiver(HarbourContext context, Steps steps) : IReceiver<Tap>
    {
        public async Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
        {
            steps.Attempts.Add((delivery.Data.Number, delivery.Attempt));
            Assert.Equal(steps.BeginsItself, context.Database.CurrentTransaction is null);
            // On a context that is enlisted already it changes nothing.
            await delivery.BeginAsync(context, cancellationToken);
            Assert.NotNull(context.Database.CurrentTransaction);
            Assert.Same(
                context.Database.CurrentTransaction.GetDbTransaction(), await delivery.BeginAsync(cancellationToken));
            Assert.False(await context.Boardings.AnyAsync(b => b.Tap == delivery.Data.Number, cancellationToken));
            context.Boardings.Add(new Boarding { Tap = delivery.Data.Number, Pier = delivery.Data.Pier });
            context.AddEvent(new Charged(delivery.Data.Number));
            if (steps.Saves) await context.SaveChangesAsync(cancellationToken);
            await steps.Then(delivery, context);
        }
    }

    private static Task<IHost> StartBoardingAsync(
        Crossing crossing, Steps steps, Registered registered = Registered.Scoped, int maxAttempts = 5) => StartAsync(
        crossing, "deck",
        courier =>
        {
            courier.Relay.Enabled = false;
            courier.Receive("taps", queue =>
            {
                (queue.Options.Parallel, queue.Options.MaxAttempts) = (4, maxAttempts);
                if (!steps.BeginsItself) queue.Enlist<HarbourContext>();
                queue.Handle<Tap, BoardingReceiver>();
            });
        },
        registered, services => services.AddSingleton(steps));

    [Theory]
    [InlineData(Registered.Scoped, false, true)]
    [InlineData(Registered.Scoped, true, true)]
    [InlineData(Registered.Pooled, false, false)]
    [InlineData(Registered.Retrying, false, true)]
    [InlineData(Registered.Retrying, true, false)]
    public async Task A_receiver_works_in_its_context_and_everything_commits_with_the_inbox(
        Registered registered, bool beginsItself, bool saves)
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        // Every tap comes twice, and each first attempt at an odd one fails when all is done.
        await crossing.Broker().PublishAsync(
            [.. Enumerable.Range(0, 40).Concat(Enumerable.Range(0, 40)).Select(n => Crossing.TapEvent(n))]);
        var steps = new Steps
        {
            BeginsItself = beginsItself,
            Saves = saves,
            Then = (delivery, _) => delivery.Data.Number % 2 == 1 && delivery.Attempt == 1
                ? throw new InvalidOperationException("the gate is stuck") : Task.CompletedTask,
        };
        var deck = await StartBoardingAsync(crossing, steps, registered);
        await crossing.SettledAsync();

        Assert.Equal(Enumerable.Range(0, 40), await BoardingsAsync(deck));
        Assert.Equal(Enumerable.Range(0, 40), (await OutboxAsync(deck)).Order());
        Assert.Equal(40, (await deck.Store().Inbox.ReadAsync("taps")).Count);
    }

    [Fact]
    public async Task Copies_that_two_workers_have_at_the_same_moment_act_once()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var steps = new Steps();
        var first = await StartBoardingAsync(crossing, steps);
        await StartBoardingAsync(crossing, steps);
        await crossing.Broker()
            .PublishAsync(
            [.. Enumerable.Range(0, 200).SelectMany(
            n => new[] { Crossing.TapEvent(n), Crossing.TapEvent(n), Crossing.TapEvent(n) })]);
        await crossing.SettledAsync();

        // The row in the inbox comes before the receiver, and lets one begin.
        Assert.Equal(Enumerable.Range(0, 200), steps.Attempts.Select(a => a.Number).Order());
        Assert.Equal(Enumerable.Range(0, 200), await BoardingsAsync(first));
        Assert.Equal(Enumerable.Range(0, 200), (await OutboxAsync(first)).Order());
    }

    [Fact]
    public async Task A_failure_to_save_is_told_with_what_the_database_said()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var steps = new Steps
        {
            // The library saves it when the receiver has returned.
            Then = (_, context) =>
            {
                context.Boardings.Add(new Boarding { Id = 7, Tap = -1 });
                return Task.CompletedTask;
            },
        };
        var deck = await StartBoardingAsync(crossing, steps, maxAttempts: 1);
        await InContextAsync(deck, async context =>
        {
            context.Boardings.Add(new Boarding { Id = 7, Tap = 700 });
            await context.SaveChangesAsync();
        });
        await crossing.Broker().PublishAsync([Crossing.TapEvent(1)]);
        await crossing.SettledAsync(deadLetters: 1);

        var reason = Assert.Single(await crossing.DeadLetters.ReadAsync("taps", 2)).Reason;
        Assert.Contains("DbUpdateException: ", reason, StringComparison.Ordinal);
        Assert.Contains("unique constraint", reason, StringComparison.OrdinalIgnoreCase);
        Assert.Equal([700], await BoardingsAsync(deck));
        Assert.Empty(await OutboxAsync(deck));
    }

    [Fact]
    public async Task A_receiver_that_fails_in_a_way_it_hides_is_tried_again()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var steps = new Steps
        {
            Then = async (delivery, context) =>
            {
                try
                {
                    // PostgreSQL gives the transaction up, and would answer a commit by rolling back; SQLite only the
                    // statement.
                    if (delivery.Attempt == 1)
                        await context.Database.ExecuteSqlRawAsync(
                        "INSERT INTO \"Boardings\" (\"Id\", \"Tap\", \"Pier\") VALUES (1000, 1, NULL)");
                }
                catch (System.Data.Common.DbException)
                {
                    // Nothing has happened, it thinks.
                }
                if (delivery.Attempt == 2) await context.Database.CommitTransactionAsync();
            },
        };
        var deck = await StartBoardingAsync(crossing, steps, maxAttempts: 2);
        await crossing.Broker().PublishAsync([Crossing.TapEvent(1)]);
        await crossing.SettledAsync(deadLetters: 0);

        // The effect and the row in the inbox are there, whichever attempt it was.
        Assert.Equal([1], await BoardingsAsync(deck));
        Assert.Equal([1], await OutboxAsync(deck));
        Assert.Single(await deck.Store().Inbox.ReadAsync("taps"));
    }

    private sealed class LateReceiver(HarbourContext context) : IReceiver<Tap>
    {
        public async Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
        {
            await delivery.BeginAsync(cancellationToken);
            await delivery.BeginAsync(context, cancellationToken);
        }
    }

    [Fact]
    public async Task A_delivery_has_one_transaction()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        await StartAsync(crossing, "deck", courier => courier.Receive("taps", queue =>
        {
            queue.Options.MaxAttempts = 1;
            queue.Handle<Tap, LateReceiver>();
        }));
        await crossing.Broker().PublishAsync([Crossing.TapEvent(1)]);
        await crossing.SettledAsync(deadLetters: 1);
        Assert.Contains(
            "the delivery's transaction has begun already; let HarbourContext have it before anything else begins it",
            Assert.Single(await crossing.DeadLetters.ReadAsync("taps", 2)).Reason, StringComparison.Ordinal);

        var twice = Assert.Throws<InvalidOperationException>(() => crossing.Build(
            "deck", courier =>
                courier.Receive("taps",
                queue => queue.Enlist<HarbourContext>().Enlist<PlainContext>().Handle<Tap, LateReceiver>())));
        Assert.Contains("queue 'taps' has a context already", twice.Message, StringComparison.Ordinal);
    }

    private sealed class BatchReceiver(HarbourContext context) : IBatchReceiver<Tap>
    {
        public async Task HandleAsync(DeliveryBatch<Tap> batch, CancellationToken cancellationToken)
        {
            await batch.BeginAsync(context, cancellationToken);
            foreach (var item in batch)
            {
                if (item.Data.Number % 10 == 3) item.Fail(new RejectException("there is no such pier"));
                else context.Boardings.Add(new Boarding { Tap = item.Data.Number });
            }
        }
    }

    [Fact]
    public async Task A_batch_is_one_transaction_of_the_context_without_the_events_that_fail()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        await crossing.Broker().PublishAsync([.. Enumerable.Range(0, 100).Select(n => Crossing.TapEvent(n))]);
        var deck = await StartAsync(crossing, "deck", courier => courier.Receive("taps", queue =>
        {
            (queue.Options.BatchSize, queue.Options.Parallel, queue.Options.Prefetch) = (20, 2, 40);
            queue.HandleBatches<Tap, BatchReceiver>();
        }));
        await crossing.SettledAsync(deadLetters: 10);

        Assert.Equal(Enumerable.Range(0, 100).Where(n => n % 10 != 3), await BoardingsAsync(deck));
        Assert.Equal(90, (await deck.Store().Inbox.ReadAsync("taps")).Count);
    }

    [Fact]
    public async Task Wrong_contexts_are_told_what_to_do()
    {
        await using var crossing = new Crossing(new TPlace());
        var store = crossing.SharedStore("harbour");

        // Nobody has run the migrations: the host must not make tables that they would find in their way.
        var noTables = crossing.Build(
            "harbour", c => c.UseDbContext<HarbourContext>(), services: s => AddContext(s, Registered.Scoped));
        await using (var connection = await AnyDatabaseAsync(crossing, "harbour"))
        {
        }
        var problem = await Assert.ThrowsAsync<CourierException>(() => noTables.StartAsync());
        Assert.Contains(
            "; run the migrations of HarbourContext, which make the tables of Gentle Courier here, before the host",
            problem.Message, StringComparison.Ordinal);
        // One advice, and not two that contradict each other.
        Assert.DoesNotContain("schema apply", problem.Message, StringComparison.Ordinal);

        var notRegistered = crossing.Build("harbour", c => c.UseDbContext<HarbourContext>());
        problem = await Assert.ThrowsAsync<CourierException>(() => notRegistered.StartAsync());
        Assert.Contains("services.AddDbContext<HarbourContext>(…)", problem.Message, StringComparison.Ordinal);

        var noModel = crossing.Build("harbour", c => c.UseDbContext<PlainContext>(),
            services: s => s.AddDbContext<PlainContext>(o => o.UseStore(store)));
        problem = await Assert.ThrowsAsync<CourierException>(() => noModel.StartAsync());
        Assert.Contains("PlainContext has no outbox in its model: say model.AddGentleCourier(Database)",
            problem.Message, StringComparison.Ordinal);
        await using (var scope = noModel.Services.CreateAsyncScope())
        {
            var plain = scope.ServiceProvider.GetRequiredService<PlainContext>();
            Assert.Contains(
                "model.AddGentleCourier(Database)",
                Assert.Throws<InvalidOperationException>(() => plain.AddEvent(new Tap(1))).Message,
                StringComparison.Ordinal);
        }

        await using var unknown = new HarbourContext(
            new DbContextOptionsBuilder<HarbourContext>().UseStore(store).Options);
        Assert.Contains(
            "say courier.UseDbContext<HarbourContext>()",
                Assert.Throws<InvalidOperationException>(() => unknown.AddEvent(new Tap(1))).Message,
                StringComparison.Ordinal);

        // What is written into another database than the store's would never be relayed.
        var other = crossing.SharedStore("fares");
        await other.PrepareAsync(create: true);
        await store.PrepareAsync(create: true);
        var elsewhere = crossing.Build(
            "harbour", c => c.UseDbContext<HarbourContext>(), services: s =>
                s.AddDbContext<HarbourContext>(o => o.UseStore(other)));
        await InContextAsync(elsewhere, async context =>
        {
            context.AddEvent(new Tap(1));
            problem = await Assert.ThrowsAsync<CourierException>(() => context.SaveChangesAsync());
        });
        Assert.Contains("and its store is", problem.Message, StringComparison.Ordinal);
        Assert.Empty((await other.ReadOutboxAsync(10)).Rows);
    }

    private sealed class PlainContext(DbContextOptions<PlainContext> options) : DbContext(options);

    /// <summary>Sees to it that the service's database exists, without any tables.</summary>
    private static async Task<IAsyncDisposable> AnyDatabaseAsync(Crossing crossing, string service)
    {
        var file = crossing.StoreAddress(service);
        if (file.StartsWith("sqlite:", StringComparison.Ordinal))
            await File.WriteAllBytesAsync(file["sqlite:".Length..], []);
        return await crossing.SharedStore(service).OpenConnectionAsync();
    }

    [Fact]
    public async Task A_context_without_a_store_is_refused_with_the_settings_name()
    {
        await using var crossing = new Crossing(new TPlace());
        var refused = await Assert.ThrowsAsync<Microsoft.Extensions.Options.OptionsValidationException>(
            () => crossing.StartAsync(
                "harbour", c => c.UseDbContext<HarbourContext>(), new() { ["Courier:Store"] = null }));
        Assert.Contains("Courier:Store is not set", refused.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_context_follows_its_store_to_any_engine_that_it_has_a_provider_for()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", c => c.UseDbContext<LooseContext>(), NoRelay, Add(
            (o, connection) => o.UseSqlite(connection), (o, connection) => o.UseNpgsql(connection)));
        await using (var scope = harbour.Services.CreateAsyncScope())
        {
            var context = scope.ServiceProvider.GetRequiredService<LooseContext>();
            context.AddEvent(new Tap(1));
            await context.SaveChangesAsync();
        }
        Assert.Equal([1], await OutboxAsync(harbour));

        var lacking = await Assert.ThrowsAsync<CourierException>(() => crossing.StartAsync(
            "fares", c => c.UseDbContext<LooseContext>(), NoRelay, Add(null, null)));
        Assert.Contains($"is given no provider for the engine {harbour.Store().Engine}: say {harbour.Store().Engine}: "
            + "(o, connection) => o.Use", lacking.Message, StringComparison.Ordinal);

        static Action<IServiceCollection> Add(
            Action<DbContextOptionsBuilder, string>? sqlite, Action<DbContextOptionsBuilder, string>? postgres) =>
            services => services.AddDbContext<LooseContext>(
                (provider, options) => options.UseCourierStore(provider, sqlite, postgres));
    }

    [Fact]
    public async Task Tables_that_are_left_out_of_migrations_are_made_by_the_host()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = await crossing.StartAsync("harbour", c => c.UseDbContext<LooseContext>(), NoRelay,
            s => s.AddDbContext<LooseContext>((sp, o) => o.UseStore(sp.GetRequiredService<IStorePort>())));
        await using var scope = harbour.Services.CreateAsyncScope();
        var context = scope.ServiceProvider.GetRequiredService<LooseContext>();
        Assert.Equal("", context.Database.GenerateCreateScript().Trim());
        context.AddEvent(new Tap(1));
        await context.SaveChangesAsync();
        Assert.Equal([1], await OutboxAsync(harbour));
    }

    private sealed class LooseContext(DbContextOptions<LooseContext> options) : DbContext(options)
    {
        protected override void OnModelCreating(ModelBuilder modelBuilder) =>
            modelBuilder.AddGentleCourier(Database, inMigrations: false);
    }
}
