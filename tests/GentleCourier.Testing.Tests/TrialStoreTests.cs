using System.Data.Common;
using Dapper;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;

namespace GentleCourier.Testing.Tests;

/// <summary>One receiver by itself.</summary>
public sealed class TrialStoreTests
{
    private static readonly Script NoScript = new();

    private static Task<TrialStore> NewAsync(string engine = "sqlite", TimeSpan? limit = null) =>
        TrialStore.CreateAsync(
            Services.Harbour,
            (services, cancel) => Services.MakeTablesAsync(services.GetRequiredService<IStore>(), cancel),
            new TrialOptions { Server = Servers.Of(engine), Limit = limit ?? TimeSpan.FromSeconds(30) });

    [Theory, InlineData("sqlite"), InlineData("postgres")]
    public async Task A_receiver_is_handed_an_event_and_what_it_did_is_looked_at(string engine)
    {
        await using var store = await NewAsync(engine);
        var charge = new Charge(store.Outbox, NoScript);
        var about = new TrialDelivery { Event = new EventOptions { Id = "tap-1", CorrelationId = "day-1" } };
        var result = await store.HandleByAsync(charge, new PassengerBoarded("card-7", 250), about);

        Assert.Equal(HandledAs.Handled, result.Outcome);
        var published = Assert.Single(result.Published);
        Assert.Equal(new CardCharged("card-7", 250), published.Data<CardCharged>());
        Assert.Equal(("card-7", "tap-1", "day-1"),
            (published.Event.Subject, published.Event.CausationId, published.Event.CorrelationId));
        Assert.Equal([("card-7", 250)], await store.Services.ChargesAsync());

        // A second copy.
        var again = await store.HandleByAsync(charge, new PassengerBoarded("card-7", 250), about with { Attempt = 2 });
        Assert.Equal(HandledAs.HandledBefore, again.Outcome);
        Assert.Empty(again.Published);
        Assert.Single(await store.Services.ChargesAsync());
    }

    /// <summary>With what is in it already, and for whoever looks into it afterwards.</summary>
    [Theory, InlineData("sqlite"), InlineData("postgres")]
    public async Task It_may_be_a_database_of_the_tests_own(string engine)
    {
        using var own = new OwnDatabase(engine);
        await own.RunAsync("CREATE TABLE charge (card TEXT, cents INTEGER); INSERT INTO charge VALUES ('card-0', 900)");
        var about = new TrialDelivery { Event = new EventOptions { Id = "tap-1" } };
        async Task<HandledAs> HandleAsync()
        {
            await using var store = await TrialStore.CreateAsync(
                Services.Harbour, options: new TrialOptions { Database = own.Address });
            var result = await store.HandleByAsync(
                new Charge(store.Outbox, NoScript), new PassengerBoarded("card-7", 250), about);
            Assert.Equal(result.Outcome == HandledAs.Handled ? 1 : 0, result.Published.Count);
            return result.Outcome;
        }

        Assert.Equal(HandledAs.Handled, await HandleAsync());
        Assert.Equal(HandledAs.HandledBefore, await HandleAsync());
        Assert.Equal(2, await own.RunAsync("SELECT count(*) FROM charge"));
    }

    [Fact]
    public async Task What_is_no_database_or_not_for_a_trial_is_refused()
    {
        Task<TrialStore> OnAsync(string address) =>
            TrialStore.CreateAsync(options: new TrialOptions { Database = address });
        foreach (var address in new[] { "Data Source=x.db", "amqp://courier@127.0.0.1", "sqlite" })
            Assert.Contains("sqlite:FILE or postgres://USER@HOST/DATABASE",
                (await Assert.ThrowsAsync<ArgumentException>(() => OnAsync(address))).Message,
                StringComparison.Ordinal);
        Assert.Contains("does not exist", (await Assert.ThrowsAsync<CourierException>(
            () => OnAsync("sqlite:/nowhere/at/all.db"))).Message, StringComparison.Ordinal);
        Assert.Contains("TrialOptions.Server", Assert.Throws<ArgumentException>(
            () => new Trial(new TrialOptions { Database = "sqlite:x.db" })).Message, StringComparison.Ordinal);
    }

    /// <summary>One that the library has not made.</summary>
    private sealed class OwnDatabase : IDisposable
    {
        private readonly string folder = Directory.CreateTempSubdirectory("courier-own-").FullName;
        private readonly Func<DbConnection> open;

        public OwnDatabase(string engine)
        {
            if (engine == "sqlite")
            {
                var file = Path.Combine(folder, "own.db");
                (Address, open) = ($"sqlite:{file}", () => new SqliteConnection($"Data Source={file};Pooling=False"));
                return;
            }
            var name = $"own_{Guid.NewGuid():N}";
            Address = Servers.Postgres.Create(name);
            open = () => Servers.Postgres.Open(name);
        }

        public string Address { get; }

        public async Task<long> RunAsync(string sql)
        {
            await using var connection = open();
            return await connection.ExecuteScalarAsync<long?>(sql) ?? 0;
        }

        public void Dispose() => Directory.Delete(folder, recursive: true);
    }

    [Fact]
    public async Task A_receiver_that_fails_has_no_effect_and_it_is_seen_what_follows()
    {
        await using var store = await NewAsync();
        var script = new Script();
        var charge = new Charge(store.Outbox, script);
        Task<AttemptResult> HandleAsync(int attempt, Exception e)
        {
            script.Before = (_, _) => throw e;
            return store.HandleByAsync(
                charge, new PassengerBoarded("card-7", 250), new TrialDelivery { Attempt = attempt },
                q => q.RejectOn<FormatException>().Options.MaxAttempts = 3);
        }

        var failure = new InvalidOperationException("the reader is broken");
        var first = await HandleAsync(1, failure);
        Assert.Equal((HandledAs.ComesAgain, failure), (first.Outcome, first.Exception));
        Assert.NotNull(first.Delay);
        Assert.Equal(HandledAs.SetAside, (await HandleAsync(3, failure)).Outcome);
        var asked = await HandleAsync(1, new RetryException(TimeSpan.FromHours(2), "the bank is closed"));
        Assert.Equal((HandledAs.ComesAgain, TimeSpan.FromHours(2), "the bank is closed"),
            (asked.Outcome, asked.Delay, asked.Reason));
        Assert.Equal(HandledAs.SetAside, (await HandleAsync(1, new RejectException("no such card"))).Outcome);
        Assert.Equal(HandledAs.SetAside, (await HandleAsync(1, new FormatException())).Outcome);
        Assert.Empty(await store.Services.ChargesAsync());
        Assert.Empty(await store.PublishedAsync());
    }

    [Fact]
    public async Task What_fails_after_its_work_has_no_effect()
    {
        await using var store = await NewAsync();
        var result = await store.HandleByAsync(
            new FailsAtTheEnd(new Charge(store.Outbox, NoScript)), new PassengerBoarded("card-7", 250));
        Assert.Equal((HandledAs.ComesAgain, "too late"), (result.Outcome, result.Exception!.Message));
        Assert.Empty(result.Published);
        Assert.Empty(await store.Services.ChargesAsync());
    }

    private sealed class FailsAtTheEnd(IReceiver<PassengerBoarded> inner) : IReceiver<PassengerBoarded>
    {
        public async Task HandleAsync(Delivery<PassengerBoarded> delivery, CancellationToken cancellationToken)
        {
            await inner.HandleAsync(delivery, cancellationToken);
            throw new InvalidOperationException("too late");
        }
    }

    [Fact]
    public async Task A_batch_is_handed_over_and_each_of_its_events_settles_on_its_own()
    {
        await using var store = await NewAsync();
        var result = await store.HandleBatchByAsync(
            new ChargeTogether(NoScript),
            [(new("card-1", 250), null), (new("card-2", -1), null), (new("card-3", 100), null)]);
        Assert.Equal(
            [HandledAs.Handled, HandledAs.SetAside, HandledAs.Handled], result.Deliveries.Select(d => d.Outcome));
        Assert.Equal("nobody is paid for going on board", result.Deliveries[1].Reason);
        Assert.Equal([("card-1", 250), ("card-3", 100)], await store.Services.ChargesAsync());
    }

    [Fact]
    public async Task Registered_receivers_are_built_and_limited_as_in_the_program()
    {
        await using var store = await TrialStore.CreateAsync(Services.Fares(
            new Script
            {
                Before = (d, _) => d.Data.Cents > 900 ? throw new FormatException("too much") : Task.CompletedTask,
            },
            q =>
            {
                q.Handle<PassengerBoarded, Charge>();
                q.RejectOn<FormatException>();
            }));
        Assert.Equal(HandledAs.Handled, (await store.HandleAsync(new PassengerBoarded("card-7", 250))).Outcome);
        Assert.Equal(HandledAs.SetAside, (await store.HandleAsync(new PassengerBoarded("card-7", 901))).Outcome);
        var problem = await Assert.ThrowsAsync<TrialException>(() => store.HandleAsync(new AccountsDue()));
        Assert.Contains("'fares' with skerryline.passenger-boarded", problem.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task What_a_service_publishes_is_seen_in_its_transaction_and_when_it_is_committed()
    {
        await using var store = await NewAsync();
        await using (var connection = await store.Store.OpenConnectionAsync())
        await using (var transaction = await connection.BeginTransactionAsync())
        {
            await store.Outbox.AddAsync(
                transaction, new CardCharged("card-7", 1), new EventOptions { Due = DueTime.In(TimeSpan.FromDays(1)) });
            await store.Outbox.AddAsync(transaction, new CardCharged("card-7", 2));
            var seen = await store.PublishedAsync(transaction);
            Assert.Equal([2, 1], seen.Select(p => p.Data<CardCharged>().Cents));
            Assert.Equal([null, store.Clock.GetUtcNow().AddDays(1)], seen.Select(p => p.Due));
            Assert.Empty(await store.PublishedAsync());
        }
        // It was rolled back.
        Assert.Empty(await store.PublishedAsync());
    }

    [Fact]
    public async Task A_receiver_that_does_not_return_is_said()
    {
        await using var store = await NewAsync(limit: TimeSpan.FromMilliseconds(200));
        var problem = await Assert.ThrowsAsync<TrialException>(() => store.HandleByAsync(
            new Charge(store.Outbox, new Script { Before = (_, _) => new TaskCompletionSource().Task }),
            new PassengerBoarded("card-7", 250)));
        Assert.Contains("Charge of service 'store'", problem.Message, StringComparison.Ordinal);
        Assert.Throws<InvalidOperationException>(() => store.Advance(TimeSpan.FromDays(1)));
    }

    [Fact]
    public async Task Receivers_may_go_by_the_clock()
    {
        await using var store = await NewAsync();
        var now = store.Clock.GetUtcNow();
        store.Advance(TimeSpan.FromDays(1));
        var result = await store.HandleByAsync(new Charge(store.Outbox, NoScript), new PassengerBoarded("card-7", 250));
        Assert.Equal(now.AddDays(1), result.Published[0].Event.Time);
    }

    private sealed class FaresContext(DbContextOptions<FaresContext> options) : DbContext(options)
    {
        public DbSet<Charged> Charges => Set<Charged>();

        protected override void OnModelCreating(ModelBuilder modelBuilder) => modelBuilder.AddGentleCourier(Database);
    }

    public sealed class Charged
    {
        public int Id { get; init; }

        public required string Card { get; init; }
    }

    private sealed class ChargeInContext(FaresContext context) : IReceiver<PassengerBoarded>
    {
        public async Task HandleAsync(Delivery<PassengerBoarded> delivery, CancellationToken cancellationToken)
        {
            context.Charges.Add(new Charged { Card = delivery.Data.Card });
            context.AddEvent(new CardCharged(delivery.Data.Card, delivery.Data.Cents));
            await context.SaveChangesAsync(cancellationToken);
            if (delivery.Data.Cents < 0) throw new RejectException("nobody is paid");
        }
    }

    [Theory, InlineData("sqlite"), InlineData("postgres")]
    public async Task A_context_takes_part(string engine)
    {
        await using var store = await TrialStore.CreateAsync(
            builder =>
            {
                builder.Services.AddDbContext<FaresContext>((services, o) => o.UseCourierStore(
                    services, (x, connection) => x.UseSqlite(connection), (x, connection) => x.UseNpgsql(connection)));
                builder.Services.AddGentleCourier(courier => courier
                    .UseSqlite().UsePostgres().UseDbContext<FaresContext>()
                    .Receive("fares", q => q.Enlist<FaresContext>().Handle<PassengerBoarded, ChargeInContext>()));
            },
            (services, cancel) => services.GetRequiredService<FaresContext>().Database.EnsureCreatedAsync(cancel),
            new TrialOptions { Server = Servers.Of(engine) });
        var good = await store.HandleAsync(new PassengerBoarded("card-7", 250));
        Assert.Equal(HandledAs.Handled, good.Outcome);
        Assert.Equal("card-7", Assert.Single(good.Published).Data<CardCharged>().Card);
        var bad = await store.HandleAsync(new PassengerBoarded("card-8", -1));
        Assert.Equal(HandledAs.SetAside, bad.Outcome);
        Assert.Empty(bad.Published);
        await using var scope = store.Services.CreateAsyncScope();
        var context = scope.ServiceProvider.GetRequiredService<FaresContext>();
        Assert.Equal("card-7", (await context.Charges.SingleAsync()).Card);
        context.AddEvent(new CardCharged("card-9", 1));
        await context.SaveChangesAsync();
        Assert.Equal(2, (await store.PublishedAsync()).Count);
    }
}
