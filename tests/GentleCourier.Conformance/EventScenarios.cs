using System.Collections.Concurrent;
using System.Data.Common;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Conformance;

/// <summary>What is said about events, and what is done around those who handle them.</summary>
public abstract class EventScenarios<TPlace> where TPlace : Place, new()
{
    [WireType("test.tap-2", "test.tap")]
    public sealed record NewTap(int Number, string? Pier = null);

    public sealed class NewTapReceiver(ConcurrentQueue<Delivery<NewTap>> log) : IReceiver<NewTap>
    {
        public Task HandleAsync(Delivery<NewTap> delivery, CancellationToken cancellationToken)
        {
            log.Enqueue(delivery);
            return Task.CompletedTask;
        }
    }

    /// <summary>Publishes a charge in the transaction in which it handles a tap.</summary>
    public sealed class ChargingReceiver(IOutbox outbox) : IReceiver<Tap>
    {
        public async Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken) =>
            await outbox.AddAsync(
                await delivery.BeginAsync(cancellationToken), new Charged(delivery.Data.Number),
                cancellationToken: cancellationToken);
    }

    public sealed class ChargedReceiver(ConcurrentQueue<CourierEvent> log) : IReceiver<Charged>
    {
        public Task HandleAsync(Delivery<Charged> delivery, CancellationToken cancellationToken)
        {
            log.Enqueue(delivery.Event);
            return Task.CompletedTask;
        }
    }

    private sealed class Tenant
    {
        public string? Name { get; set; }
    }

    /// <summary>A service that receives taps, and one that publishes them.</summary>
    private static async Task<(Log Log, IOutbox Outbox, IStore Store)> StartAsync(Crossing crossing)
    {
        var log = new Log();
        await crossing.StartAsync("fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()),
            services: s => s.AddSingleton(log));
        var harbour = (await crossing.StartAsync("harbour")).Services;
        return (log, harbour.GetRequiredService<IOutbox>(), harbour.GetRequiredService<IStore>());
    }

    [Fact]
    public async Task Headers_of_ones_own_come_with_the_event()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log();
        await crossing.StartAsync("fares", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()),
            services: s => s.AddSingleton(log));
        var headers = new Dictionary<string, string> { ["tenant"] = "Old Light é", ["gate2"] = "7" };
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(
            EventDraft.Of(new Tap(1), new() { Extensions = headers, CorrelationId = "order 5" }));
        await Crossing.UntilAsync(() => Task.FromResult(!log.Taps.IsEmpty), "it is handled");
        var tap = Assert.Single(log.Taps).Event;
        Assert.Equal(headers.OrderBy(h => h.Key), tap.Extensions.OrderBy(h => h.Key));
        Assert.Equal(("order 5", null), (tap.CorrelationId, tap.CausationId));
    }

    [Fact]
    public async Task What_a_handler_publishes_says_what_it_belongs_to_and_what_it_came_of()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new ConcurrentQueue<CourierEvent>();
        await crossing.StartAsync(
            "fares", c => c.Receive("taps", q => q.Handle<Tap, ChargingReceiver>())
                .Receive("charges", q => q.Handle<Charged, ChargedReceiver>()),
            services: s => s.AddSingleton(log));
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(
            EventDraft.Of(new Tap(1), new() { Id = "tap-1" }),
            EventDraft.Of(new Tap(2), new() { Id = "tap-2", CorrelationId = "sailing 8" }));
        await Crossing.UntilAsync(() => Task.FromResult(log.Count == 2), "both charges have come");
        Assert.Equal(
            [("tap-1", "tap-1"), ("sailing 8", "tap-2")],
            log.Select(e => (e.CorrelationId!, e.CausationId!)).OrderBy(c => c.Item2));
    }

    [Fact]
    public async Task A_contract_that_was_renamed_is_received_under_both_names()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new ConcurrentQueue<Delivery<NewTap>>();
        await crossing.StartAsync("fares", c => c.Receive("taps", q => q.Handle<NewTap, NewTapReceiver>()),
            new() { ["Courier:Routes:test.tap-2"] = "taps" }, s => s.AddSingleton(log));
        // An old publisher, and a new one.
        var harbour = await crossing.StartAsync(
            "harbour", settings: new() { ["Courier:Routes:test.tap-2"] = "taps" });
        await harbour.PublishAsync(new Tap(1));
        await harbour.PublishAsync(new NewTap(2));
        await Crossing.UntilAsync(() => Task.FromResult(log.Count == 2), "both are handled");
        Assert.Equal(
            [(1, "test.tap"), (2, "test.tap-2")],
            log.Select(d => (d.Data.Number, d.Event.Type)).OrderBy(d => d.Number));
    }

    [Fact]
    public async Task Code_around_handlers_sees_each_call_and_its_failure_is_theirs()
    {
        await using var crossing = new Crossing(new TPlace());
        var seen = new ConcurrentQueue<string>();
        var log = new Log { OnTap = (_, _) => { seen.Enqueue("handler"); return Task.CompletedTask; } };
        await crossing.StartAsync(
            "fares",
            c => c
                .AroundHandlers(async (handling, next, cancel) =>
                {
                    var tenant = handling.Services.GetRequiredService<Tenant>();
                    tenant.Name = handling.Events.Single().Extensions["tenant"];
                    seen.Enqueue($"{handling.Queue} {handling.Receiver.Name} {handling.Attempt}");
                    await next(cancel);
                    seen.Enqueue("after");
                })
                .AroundHandlers((handling, next, cancel) =>
                    handling.Services.GetRequiredService<Tenant>().Name == "nobody"
                        ? throw new RejectException("there is no such tenant") : next(cancel))
                .Receive("taps", q => q.Handle<Tap, TapReceiver>()),
            services: s => s.AddSingleton(log).AddScoped<Tenant>());
        var harbour = await crossing.StartAsync("harbour");
        await harbour.PublishAsync(
            EventDraft.Of(new Tap(1), new() { Extensions = new Dictionary<string, string> { ["tenant"] = "gulls" } }));
        await Crossing.UntilAsync(() => Task.FromResult(seen.Count == 3), "the first is handled");
        Assert.Equal(["taps TapReceiver 1", "handler", "after"], seen);
        await harbour.PublishAsync(
            EventDraft.Of(new Tap(2), new() { Extensions = new Dictionary<string, string> { ["tenant"] = "nobody" } }));
        await crossing.SettledAsync(deadLetters: 1);
        Assert.Equal("there is no such tenant", Assert.Single(await crossing.DeadLetters.ReadAsync(null, 2)).Reason);
        Assert.Single(log.Taps);
    }

    [Fact]
    public async Task Code_around_handlers_cannot_have_an_event_handled_twice()
    {
        await using var crossing = new Crossing(new TPlace());
        var log = new Log();
        await crossing.StartAsync(
            "fares",
            c => c
                .AroundHandlers(async (_, next, cancel) =>
                {
                    await next(cancel);
                    await next(cancel);
                })
                .Receive("taps", q =>
                {
                    q.RejectOn<InvalidOperationException>();
                    q.Handle<Tap, TapReceiver>();
                }),
            services: s => s.AddSingleton(log));
        await (await crossing.StartAsync("harbour")).PublishAsync(new Tap(1));
        await crossing.SettledAsync(deadLetters: 1);
        Assert.Contains(
            "has gone on to the receiver twice", Assert.Single(await crossing.DeadLetters.ReadAsync(null, 2)).Reason,
            StringComparison.Ordinal);
        Assert.Single(log.Taps);
    }

    /// <summary>What is around a receiver decides by what it says, and by nothing that it leaves out.</summary>
    [Fact]
    public async Task Code_around_handlers_that_swallows_a_failure_or_does_not_go_on_has_failed_unless_it_says_so()
    {
        await using var crossing = new Crossing(new TPlace());
        var (gate, late) = (new TaskCompletionSource(), new TaskCompletionSource<Exception?>());
        var log = new Log
        {
            OnTap = async (delivery, _) =>
            {
                if (delivery.Data.Number == 5)
                {
                    await gate.Task;
                    late.TrySetResult(await Record.ExceptionAsync(() => delivery.BeginAsync()));
                }
                if (delivery.Data.Number is 1 or 2) throw new RejectException("the gate is shut");
            },
        };
        await crossing.StartAsync(
            "fares",
            c => c
                .AroundHandlers(async (handling, next, cancel) =>
                {
                    var number = handling.Events[0].Id;
                    if (number is "2" or "4") handling.Accept();
                    if (number is "3" or "4") return;
                    var call = next(cancel);
                    if (number == "5") return;
                    try
                    {
                        await call;
                    }
                    catch (RejectException)
                    {
                        // Half of the work is done.
                    }
                })
                .Receive("taps", q =>
                {
                    q.RejectOn<InvalidOperationException>();
                    q.Handle<Tap, TapReceiver>();
                }),
            services: s => s.AddSingleton(log));
        var harbour = await crossing.StartAsync("harbour");
        foreach (var n in Enumerable.Range(1, 6))
            await harbour.PublishAsync(EventDraft.Of(new Tap(n), new() { Id = $"{n}" }));
        await crossing.SettledAsync(deadLetters: 3);
        var reasons = (await crossing.DeadLetters.ReadAsync(null, 10)).Select(l => l.Reason).Order().ToList();
        Assert.Equal("the gate is shut", reasons[0]);
        Assert.Contains("has not gone on to TapReceiver", reasons[1], StringComparison.Ordinal);
        Assert.Contains("has returned before TapReceiver has", reasons[2], StringComparison.Ordinal);
        Assert.Equal([1, 2, 5, 6], log.Taps.Select(d => d.Data.Number).Order());
        // It goes on, when nothing of it counts any more.
        gate.SetResult();
        var said = Assert.IsType<InvalidOperationException>(await late.Task.WaitAsync(Crossing.Limit));
        Assert.Contains("await all that the receiver begins", said.Message, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Events_are_published_without_a_connection_of_ones_own()
    {
        await using var crossing = new Crossing(new TPlace());
        var (log, outbox, store) = await StartAsync(crossing);
        Assert.Equal("tap-1", await outbox.AddAloneAsync(new Tap(1), new() { Id = "tap-1" }));
        await store.TransactAsync(async (transaction, cancel) =>
        {
            await transaction.Connection!.ExecuteAsync("CREATE TABLE gate (number INTEGER)");
            await outbox.AddAsync(transaction, new Tap(2), cancellationToken: cancel);
        });
        await store.TransactAsync((transaction, cancel) => outbox.AddAndCommitAsync(
            transaction, new Tap(3), cancellationToken: cancel));
        await Assert.ThrowsAsync<InvalidTimeZoneException>(() => store.TransactAsync(async (transaction, cancel) =>
        {
            await transaction.Connection!.ExecuteAsync("INSERT INTO gate VALUES (4)");
            await outbox.AddAsync(transaction, new Tap(4), cancellationToken: cancel);
            throw new InvalidTimeZoneException("the gate is closed");
        }));
        await crossing.SettledAsync();
        Assert.Equal([1, 2, 3], log.Taps.Select(t => t.Data.Number).Order());
        Assert.Empty(await Crossing.NumbersAsync((GentleCourier.Engines.IStorePort)store, "SELECT number FROM gate"));
    }

    /// <summary>
    /// A statement fails and its error is caught: some engines roll all back, and none may keep that to itself.
    /// </summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task A_transaction_whose_commit_is_reported_is_committed(bool toSavepoint)
    {
        await using var crossing = new Crossing(new TPlace());
        var (log, outbox, store) = await StartAsync(crossing);
        await store.TransactAsync((transaction, _) =>
            transaction.Connection!.ExecuteAsync("CREATE TABLE gate (number INTEGER PRIMARY KEY)"));
        var problem = await Record.ExceptionAsync(() => store.TransactAsync(async (transaction, cancel) =>
        {
            await transaction.Connection!.ExecuteAsync("INSERT INTO gate VALUES (1)");
            await outbox.AddAsync(transaction, new Tap(1), cancellationToken: cancel);
            if (toSavepoint) await transaction.SaveAsync("before", cancel);
            await Assert.ThrowsAnyAsync<DbException>(
                () => transaction.Connection!.ExecuteAsync("INSERT INTO gate VALUES (1)"));
            if (toSavepoint) await transaction.RollbackAsync("before", cancel);
        }));
        if (toSavepoint) Assert.Null(problem);
        if (problem is not null)
            Assert.Contains("a statement of this transaction had failed before and its error was caught",
                Assert.IsType<CourierException>(problem).Message, StringComparison.Ordinal);
        int[] committed = problem is null ? [1] : [];
        var port = (GentleCourier.Engines.IStorePort)store;
        Assert.Equal(committed, await Crossing.NumbersAsync(port, "SELECT number FROM gate"));
        await outbox.AddAloneAsync(new Tap(2));
        await crossing.SettledAsync();
        Assert.Equal([.. committed, 2], log.Taps.Select(t => t.Data.Number).Order());
    }
}
