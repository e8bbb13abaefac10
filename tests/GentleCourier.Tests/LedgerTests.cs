using CsCheck;
using GentleCourier.Watching;

namespace GentleCourier.Tests;

public sealed class LedgerTests
{
    private static readonly Gen<List<string>> Ids = Gen.Int[0, 30].Select(i => $"e{i}").List[0, 40];

    [Fact]
    public void Whatever_happens_every_published_event_is_in_exactly_one_account() =>
        Gen.Select(Ids, Ids, Ids, Ids).Sample((published, handled, waiting, dead) =>
        {
            var ledger = Ledger.Balance(published, handled, waiting, dead, 0);
            return ledger.Published == ledger.Handled + ledger.Waiting + ledger.DeadLetters + ledger.Missing.Count;
        });

    [Fact]
    public void An_event_that_is_somewhere_is_not_missing_and_one_that_was_not_published_is_unexpected() =>
        Gen.Select(Ids, Ids, Ids, Ids).Sample((published, handled, waiting, dead) =>
        {
            var ledger = Ledger.Balance(published, handled, waiting, dead, 0);
            var found = handled.Concat(waiting).Concat(dead).ToHashSet();
            return ledger.Missing.SequenceEqual(
                published.Distinct().Where(id => !found.Contains(id)).Order(StringComparer.Ordinal))
                && found.Except(published).All(ledger.Unexpected.Contains);
        });

    [Fact]
    public void An_honest_day_balances_however_the_events_are_dealt_out() =>
        Gen.Int[0, 3].List[0, 60].Sample(fates =>
        {
            List<string> Of(int fate) =>
                [.. fates.Select((f, i) => (f, Id: $"e{i}")).Where(e => e.f == fate).Select(e => e.Id)];
            var (handled, waiting, dead, both) = (Of(0), Of(1), Of(2), Of(3));
            // Of some a second copy still waits, which will be absorbed.
            var ledger = Ledger.Balance([.. handled, .. waiting, .. dead, .. both], [.. handled, .. both],
                [.. waiting, .. both], dead, both.Count);
            return ledger.Balances && ledger.Handled == handled.Count + both.Count && ledger.Waiting == waiting.Count
                && ledger.DeadLetters == dead.Count;
        });

    [Fact]
    public void Acting_twice_and_handling_what_was_set_aside_are_unexpected()
    {
        Assert.Equal(["a"], Ledger.Balance(["a"], ["a", "a"], [], [], 0).Unexpected);
        Assert.Equal(["a"], Ledger.Balance(["a"], ["a"], [], ["a"], 0).Unexpected);
        Assert.False(Ledger.Balance(["a"], ["a", "a"], [], [], 0).Balances);
        Assert.Equal(["b"], Ledger.Balance(["a", "b"], ["a"], [], [], 0).Missing);
    }

    [Fact]
    public void Accounts_of_queues_add_up_and_name_the_queue()
    {
        var sum = Ledger.Sum(new Dictionary<string, Ledger>
        {
            ["fares"] = Ledger.Balance(["a", "b"], ["a"], [], [], 3),
            ["decks"] = Ledger.Balance(["a"], [], ["a"], ["x"], 1),
        });
        Assert.Equal(
            (3, 1, 1, 0, 4), (sum.Published, sum.Handled, sum.Waiting, sum.DeadLetters, sum.DuplicatesAbsorbed));
        Assert.Equal(["fares: b"], sum.Missing);
        Assert.Equal(["decks: x"], sum.Unexpected);
    }
}
