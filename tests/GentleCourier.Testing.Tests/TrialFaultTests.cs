using CsCheck;
using Dapper;

namespace GentleCourier.Testing.Tests;

/// <summary>
/// Twice on purpose: a receiver that is idempotent ends with the same effect, and one that is not is found out.
/// </summary>
public sealed class TrialFaultTests
{
    private static async Task<(Trial Trial, TrialService Fares)> RunAsync(
        TrialFaults faults, int events, Action<QueueBinding> queue, string engine = "sqlite", string? key = null)
    {
        var trial = new Trial(new TrialOptions { Server = Servers.Of(engine), Limit = TimeSpan.FromMinutes(1) })
        {
            Faults = faults,
        };
        await trial.ReceivedElsewhereAsync<CardCharged>();
        var harbour = await trial.StartAsync("harbour", Services.Harbour);
        var fares = await trial.StartAsync("fares", Services.Fares(queue: queue));
        for (var i = 0; i < events; i++)
            await harbour.BoardAsync($"card-{i:00}", i, new EventOptions { PartitionKey = key });
        await trial.RunUntilIdleAsync();
        return (trial, fares);
    }

    [Theory]
    [InlineData(TrialFaults.PublishedTwice, "sqlite")]
    [InlineData(TrialFaults.KilledBeforeCommit, "sqlite")]
    [InlineData(TrialFaults.AnswerLost, "sqlite")]
    [InlineData(TrialFaults.All, "sqlite")]
    [InlineData(TrialFaults.All, "postgres")]
    public async Task What_works_in_its_transaction_has_its_effect_once(TrialFaults faults, string engine)
    {
        var (trial, fares) = await RunAsync(faults, 5, q => q.Handle<PassengerBoarded, Charge>(), engine);
        await using var _ = trial;
        Assert.Equal(
            Enumerable.Range(0, 5).Select(i => ($"card-{i:00}", i)), await fares.Services.ChargesAsync());
        Assert.Equal(5, trial.Published.Count(p => p.Is<CardCharged>()));
        Assert.Equal(5, trial.Deliveries.Count(d => d.Outcome == HandledAs.Handled));
        // Each fault has happened, to each event.
        var copies = faults.HasFlag(TrialFaults.PublishedTwice) || faults.HasFlag(TrialFaults.AnswerLost);
        Assert.Equal(copies, trial.Deliveries.Any(d => d.Outcome == HandledAs.HandledBefore));
        foreach (var fault in new[] { TrialFaults.KilledBeforeCommit, TrialFaults.AnswerLost })
            Assert.Equal(
                faults.HasFlag(fault) ? 5 : 0,
                trial.Deliveries.Count(d => d.Reason?.EndsWith($": {fault}", StringComparison.Ordinal) == true));
    }

    [Theory]
    [InlineData(TrialFaults.KilledBeforeCommit)]
    [InlineData(TrialFaults.PublishedTwice, false)]
    public async Task What_works_outside_of_it_is_found_out(TrialFaults faults, bool inbox = true)
    {
        var (trial, fares) = await RunAsync(faults, 3, q =>
        {
            q.Handle<PassengerBoarded, ChargeCarelessly>();
            q.Options.Inbox = inbox;
        });
        await using var _ = trial;
        Assert.Equal(6, (await fares.Services.ChargesAsync()).Count);
    }

    [Fact]
    public async Task What_is_settled_on_arrival_is_told_of_when_its_handler_has_ended()
    {
        var (trial, fares) = await RunAsync(TrialFaults.PublishedTwice, 3, q =>
        {
            q.Handle<PassengerBoarded, Charge>();
            q.Options.Settling = Settling.OnArrival;
        });
        await using var _ = trial;
        Assert.Equal(3, (await fares.Services.ChargesAsync()).Count);
        Assert.Equal(3, trial.Deliveries.Count(d => d.Outcome == HandledAs.Handled));
        Assert.Equal(3, trial.Deliveries.Count(d => d.Outcome == HandledAs.HandledBefore));
    }

    [Fact]
    public async Task Batches_are_broken_as_a_whole_and_end_well()
    {
        var (trial, fares) = await RunAsync(TrialFaults.All, 10, q =>
        {
            q.HandleBatches<PassengerBoarded, ChargeTogether>();
            (q.Options.BatchSize, q.Options.BatchWait) = (4, TimeSpan.FromSeconds(1));
        });
        await using var _ = trial;
        Assert.Equal(10, (await fares.Services.ChargesAsync()).Count);
    }

    /// <summary>Whatever is put together: each event has its effect once, and each card is charged in order.</summary>
    [Fact]
    public async Task Of_any_mixture_each_event_has_its_effect_once()
    {
        var mixture = Gen.Select(
            Gen.Int[0, 7], Gen.Int[1, 8], Gen.Int[1, 3], Gen.Bool, Gen.Bool,
            (faults, events, parallel, inKeyOrder, batches) =>
                (Faults: (TrialFaults)faults, events, parallel, inKeyOrder, batches));
        await mixture.SampleAsync(async m =>
        {
            var (trial, fares) = await RunAsync(m.Faults, m.events, q =>
            {
                if (m.batches) q.HandleBatches<PassengerBoarded, ChargeTogether>();
                else q.Handle<PassengerBoarded, Charge>();
                (q.Options.Parallel, q.Options.InKeyOrder) = (m.parallel, m.inKeyOrder);
                q.Options.BatchSize = m.batches ? 3 : 1;
            }, key: "the one");
            await using var _ = trial;
            await using var connection = await fares.Services.GetRequiredService<IStore>().OpenConnectionAsync();
            var charged = (await connection.QueryAsync<int>("SELECT cents FROM charge ORDER BY rowid")).ToList();
            Assert.Equal(Enumerable.Range(0, m.events), m.inKeyOrder ? charged : charged.Order());
        }, iter: 12, threads: 2);
    }

    [Fact]
    public async Task Trials_side_by_side_are_broken_apart()
    {
        var runs = await Task.WhenAll(Enumerable.Range(0, 4).Select(async i =>
        {
            var (trial, _) = await RunAsync(
                i % 2 == 0 ? TrialFaults.KilledBeforeCommit : TrialFaults.None, 5,
                q => q.Handle<PassengerBoarded, Charge>());
            await using (trial) return trial.Deliveries.Count(d => d.Outcome == HandledAs.ComesAgain);
        }));
        Assert.Equal([5, 0, 5, 0], runs);
    }
}
