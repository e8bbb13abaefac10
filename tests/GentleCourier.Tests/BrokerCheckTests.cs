using CsCheck;
using GentleCourier.Engines;
using GentleCourier.Publishing;

namespace GentleCourier.Tests;

public sealed class BrokerCheckTests
{
    private static readonly Gen<Stamp> Stamps = Gen.Select(Gen.Long[0, 3], Gen.Long[0, 3], (t, n) => new Stamp(t, n));
    private static readonly Gen<string> Names = Gen.Int[0, 3].Select(i => $"{i}");

    private static readonly Gen<StoreMemory> Memories =
        Gen.Select(Names, Names, Stamps, (g, a, s) => new Confirmed(g, a, s)).List[0, 3].Select(
            confirmed => new StoreMemory("me", [.. confirmed.DistinctBy(c => c.Generation)]));

    private static readonly Gen<Stamped> Brokers = Gen.Select(Names, Names, Stamps, (g, a, s) => new Stamped(g, a, s));

    [Fact]
    public void The_alarm_is_where_something_confirmed_may_be_missing_and_only_there() => Gen.Select(Memories, Brokers)
        .Sample((memory, broker) =>
        {
            var known = memory.Confirmed.Where(c => c.Generation == broker.Generation).ToList();
            var others = memory.Confirmed.Where(c => c.Stamp > default(Stamp)).ToList();
            var expected = known is [var one]
                ? broker.Last.CompareTo(one.Stamp) < 0 ? BrokerState.FallenBehind : BrokerState.AsItWas
                : others.Exists(c => c.Address == broker.Address) ? BrokerState.Another
                : others.Count > 0 ? BrokerState.New : BrokerState.AsItWas;
            Assert.Equal(expected, BrokerCheck.Of(memory, broker));
        });

    [Fact]
    public void What_a_broker_has_confirmed_since_never_makes_it_another() => Gen.Select(Memories, Brokers, Stamps)
        .Sample((memory, broker, later) =>
        {
            var confirmed = new Confirmed(broker.Generation, broker.Address, broker.Last);
            var now = memory with
            {
                Confirmed = [.. memory.Confirmed.Where(c => c.Generation != broker.Generation), confirmed],
            };
            Assert.Equal(BrokerState.AsItWas, BrokerCheck.Of(now, broker));
            var ahead = later > broker.Last ? later : broker.Last;
            Assert.Equal(BrokerState.AsItWas, BrokerCheck.Of(now, broker with { Last = ahead }));
        });

    [Fact]
    public void Stamps_are_in_the_order_of_their_terms_and_then_of_their_numbers() => Gen.Select(Stamps, Stamps).Sample(
        (a, b) =>
        {
            var order = (a.Term, a.Number).CompareTo((b.Term, b.Number));
            Assert.Equal((order < 0, order <= 0, order > 0, order >= 0), (a < b, a <= b, a > b, a >= b));
            Assert.Equal(a > b, BrokerCheck.IsAhead(a, b.Term, b.Number));
        });
}
