using GentleCourier.Bench.Postgres;

namespace GentleCourier.Bench;

/// <summary>All that have a bare twin.</summary>
internal static class Benchmarks
{
    public static readonly IBenchmark[] All =
    [
        new OutboxCost(smallest: false), new OutboxCost(smallest: true), new RelayRate(), new ReceiveRate(1_000),
        new ReceiveRate(1_000_000), new FullJourney(0), new FullJourney(1_000_000),
        new OutboxCost(smallest: false, plain: false), new OutboxCost(smallest: true, plain: false),
        new PostgresOutbox(smallest: false), new PostgresOutbox(smallest: true), new ContextOutbox(),
        new PostgresOutbox(smallest: false, plain: false), new PostgresOutbox(smallest: true, plain: false),
        new ContextOutbox(plain: false),
        new PostgresRelay(oneDatabase: false), new PostgresRelay(oneDatabase: true), new PostgresReceive(1_000),
        new PostgresReceive(1_000_000), new PostgresHeldSnapshot(), new PostgresReceive(1_000_000, leased: false),
        new PostgresJourney(),
    ];
}
