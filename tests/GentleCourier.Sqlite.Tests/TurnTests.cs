using System.Data.Common;
using GentleCourier.Conformance;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.Sqlite.Tests;

/// <summary>A file has one writer: who waits for it blocks no thread, and nobody waits for himself.</summary>
public sealed class TurnTests
{
    private static async Task WriteAsync(Microsoft.Extensions.Hosting.IHost harbour, int number, Task pause)
    {
        await using var connection = await harbour.Store().OpenConnectionAsync();
        await using var transaction = await connection.BeginTransactionAsync();
        await connection.ExecuteAsync("INSERT INTO tap VALUES (@number)", ("@number", number));
        await pause;
        await Task.Yield();
        await harbour.Services.GetRequiredService<IOutbox>().AddAndCommitAsync(transaction, new Tap(number));
    }

    private static async Task<Microsoft.Extensions.Hosting.IHost> StartAsync(Crossing crossing)
    {
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour");
        await using var connection = await harbour.Store().OpenConnectionAsync();
        await connection.ExecuteAsync("CREATE TABLE tap (number INTEGER)");
        return harbour;
    }

    /// <summary>
    /// Far more writers than threads, each of which awaits something before its commit, while the first has the turn:
    /// if they blocked threads there would be none on which it could go on.
    /// </summary>
    [Fact]
    public async Task Writers_that_await_before_their_commit_leave_the_threads_to_the_one_that_has_the_turn()
    {
        await using var crossing = new Crossing(new Folder());
        var harbour = await StartAsync(crossing);
        var writers = Environment.ProcessorCount + 60;
        ThreadPool.GetMinThreads(out _, out var completionPorts);
        Assert.True(ThreadPool.SetMinThreads(1, completionPorts));
        var goOn = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        var all = Enumerable.Range(0, writers).Select(i => Task.Run(() => WriteAsync(harbour, i, goOn.Task))).ToArray();
        await Crossing.UntilAsync(() => Task.FromResult(ThreadPool.PendingWorkItemCount == 0), "all have begun");
        Assert.True(ThreadPool.ThreadCount < writers, $"{ThreadPool.ThreadCount} threads");
        goOn.SetResult();
        await Task.WhenAll(all).WaitAsync(Crossing.Limit);
        await Crossing.UntilAsync(
            async () => (await crossing.FiguresAsync("taps")).Ready == writers, "all are relayed");
    }

    [Fact]
    public async Task A_transaction_inside_another_is_refused_at_once_and_the_outer_one_goes_on()
    {
        await using var crossing = new Crossing(new Folder());
        var harbour = await StartAsync(crossing);
        await using (var connection = await harbour.Store().OpenConnectionAsync())
        {
            await using var transaction = await connection.BeginTransactionAsync();
            await connection.ExecuteAsync("INSERT INTO tap VALUES (1)");
            var problem = await Assert.ThrowsAsync<CourierException>(() => WriteAsync(harbour, 2, Task.CompletedTask));
            Assert.Contains("was begun inside another one", problem.Message, StringComparison.Ordinal);
            await using var synchronous = await harbour.Store().OpenConnectionAsync();
            Assert.Throws<CourierException>(() => synchronous.BeginTransaction());
            await transaction.CommitAsync();
        }
        // Once it has ended, however it has, others begin, in the same flow too.
        for (var i = 0; i < 3; i++)
        {
            await using var connection = await harbour.Store().OpenConnectionAsync();
            await using var transaction = await connection.BeginTransactionAsync();
            if (i == 1) await transaction.RollbackAsync();
        }
        await WriteAsync(harbour, 3, Task.CompletedTask);
        Assert.Equal([1, 3], await Crossing.NumbersAsync(harbour.Store(), "SELECT number FROM tap ORDER BY 1"));
    }

    private sealed class Nested(IStore store, Log log) : IReceiver<Tap>
    {
        public async Task HandleAsync(Delivery<Tap> delivery, CancellationToken cancellationToken)
        {
            await delivery.BeginAsync(cancellationToken);
            await using var connection = await store.OpenConnectionAsync(cancellationToken);
            try
            {
                await connection.BeginTransactionAsync(cancellationToken);
            }
            catch (CourierException)
            {
                log.Taps.Enqueue(delivery);
            }
        }
    }

    [Fact]
    public async Task A_receiver_that_begins_a_transaction_inside_that_of_its_delivery_is_told_so_at_once()
    {
        await using var crossing = new Crossing(new Folder());
        var log = new Log();
        await crossing.RouteAsync(("test.tap", "taps"));
        await crossing.StartAsync(
            "deck", c => c.Receive("taps", q => q.Handle<Tap, Nested>()), services: s => s.AddSingleton(log));
        await crossing.Broker().PublishAsync([Crossing.TapEvent(1), Crossing.TapEvent(2)]);
        await crossing.SettledAsync();
        Assert.Equal(2, log.Taps.Count);
    }

    /// <summary>Handlers and publishers of one store share its turns: neither starves the other.</summary>
    [Fact]
    public async Task Handlers_get_their_turns_among_many_writers()
    {
        const int Each = 200;
        await using var crossing = new Crossing(new Folder());
        var harbour = await StartAsync(crossing);
        var log = new Log();
        await crossing.RouteAsync(("test.charged", "charges"));
        var worker = await crossing.StartAsync(
            "harbour", c => c.Receive("taps", q => q.Handle<Tap, TapReceiver>()), services: s => s.AddSingleton(log));
        var next = 0;
        await Task.WhenAll(Enumerable.Range(0, 16).Select(_ => Task.Run(async () =>
        {
            while (Interlocked.Increment(ref next) is var number && number <= Each)
                await WriteAsync(worker, number, Task.CompletedTask);
        }))).WaitAsync(Crossing.Limit);
        await crossing.SettledAsync();
        Assert.Equal(Enumerable.Range(1, Each), log.Taps.Select(t => t.Data.Number).Order());
    }
}
