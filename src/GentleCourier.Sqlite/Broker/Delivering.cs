using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Sqlite;

/// <summary>Hands over what waits in a broker's file, and takes back what becomes of it. Thread-safe.</summary>
/// <param name="broker">What the file is called, for messages.</param>
/// <param name="writer">Writes into it.</param>
/// <param name="time">Its time.</param>
/// <param name="changed">Raised for a queue that has something which it had not before.</param>
/// <param name="logger">Is told of what is damaged.</param>
internal sealed partial class Delivering(
    string broker, GroupWriter writer, FileClock time, Func<long, Signal> changed, ILogger logger)
{
    private long sweepAt;

    /// <summary>Whether it is time to look for what dead workers held.</summary>
    public bool IsTimeToSweep(long now) => now >= Volatile.Read(ref sweepAt);

    public Task<List<HandOver>> HandOverAsync(SqliteLink link, int credit, CancellationToken cancellationToken) =>
        writer.RunAsync((BrokerStatements s) => HandOver(s, link, credit), cancellationToken);

    public async Task<Exchange> SettleAsync(
        SqliteLink link, IReadOnlyList<Settlement> settlements, int credit, CancellationToken cancellationToken)
    {
        var queue = link.Queue;
        var (exchange, others) = await writer.RunAsync(
            (BrokerStatements s) =>
            {
                var (took, back, letters) = Settle(s, queue, settlements);
                // In key order the next of a key may be handed over, too.
                var others = back > 0 || s.Deliveries.IsInKeyOrder(queue);
                var exchange = new Exchange(took, credit > 0 ? HandOver(s, link, credit) : []);
                return (exchange with { DeadLetters = letters }, others);
            },
            cancellationToken).ConfigureAwait(false);
        if (others) changed(queue).Raise();
        return exchange;
    }

    public Task<bool[]> RenewAsync(
        IReadOnlyList<HandOver> deliveries, TimeSpan lease, CancellationToken cancellationToken) => writer.RunAsync(
        (BrokerStatements s) =>
        {
            var until = time.Now + (long)lease.TotalMilliseconds;
            return deliveries.Select(delivery => s.Deliveries.Renew(Copy(delivery), until)).ToArray();
        },
        cancellationToken);

    private List<HandOver> HandOver(BrokerStatements statements, SqliteLink link, int credit)
    {
        var now = time.Now;
        if (IsTimeToSweep(now)) Sweep(statements, now);
        var (queue, until) = (link.Queue, now + (long)link.Lease.TotalMilliseconds);
        if (!statements.Deliveries.IsOpen(queue, now)) return [];
        var number = LeasedCopy.DrawNumber();
        var (handed, missing) = statements.Deliveries.IsInKeyOrder(queue)
            ? statements.Deliveries.HandOverInKeyOrder(queue, credit, number, now, until, link.Worker)
            : statements.Deliveries.HandOver(queue, credit, number, now, until, link.Worker);
        missing.ForEach(copy => LogMissing(logger, copy, broker));
        return handed;
    }

    private static LeasedCopy Copy(HandOver delivery) =>
        delivery as LeasedCopy ?? throw new ArgumentException("the delivery is of another link", nameof(delivery));

    private (bool[] Took, int Waiting, Dictionary<HandOver, string>? Letters) Settle(
        BrokerStatements statements, long queue, IReadOnlyList<Settlement> settlements)
    {
        var now = time.Now;
        var took = new bool[settlements.Count];
        var (accepted, failed, waiting) = (0, 0, 0);
        Dictionary<HandOver, string>? letters = null;
        for (var i = 0; i < took.Length; i++)
        {
            var (delivery, outcome) = settlements[i];
            var copy = Copy(delivery);
            took[i] = outcome switch
            {
                Outcome.AcceptedOutcome => statements.Deliveries.Accept(copy),
                Outcome.ReleasedOutcome => statements.Deliveries.Release(copy, now),
                Outcome.Modified again =>
                    statements.Deliveries.Retry(copy, now + (long)again.Delay.TotalMilliseconds, again),
                Outcome.Rejected rejected => SetAside(rejected),
                _ => throw new ArgumentException($"unknown outcome {outcome}", nameof(settlements)),
            };
            if (!took[i]) continue;
            // What is a dead letter already is done with.
            if (outcome is Outcome.AcceptedOutcome or Outcome.Rejected && letters?.ContainsKey(delivery) != true)
                accepted++;
            if (outcome is Outcome.ReleasedOutcome or Outcome.Modified) waiting++;
            if (outcome is Outcome.Modified { Counts: true }) failed++;

            bool SetAside(Outcome.Rejected rejected)
            {
                var (isHeld, letter) = statements.SetAside(queue, copy, rejected, now);
                if (letter is not null) (letters ??= [])[delivery] = letter;
                return isHeld;
            }
        }
        var aside = letters?.Count ?? 0;
        if (accepted + waiting + aside is var settled && settled > 0)
            statements.Deliveries.Count(queue, waiting, -settled, came: 0, accepted, failed, aside);
        return (took, waiting, letters);
    }

    /// <summary>Frees what dead workers held.</summary>
    public void Sweep(BrokerStatements statements, long now)
    {
        foreach (var queue in statements.Deliveries.ReturnExpired(now)) changed(queue).Raise();
        Volatile.Write(ref sweepAt, now + 1000);
    }

    [LoggerMessage(302, LogLevel.Error,
        "Copy {Copy} has a place in a queue of {Broker} and is not there: the file is damaged, or was edited; its "
        + "place is removed")]
    private static partial void LogMissing(ILogger logger, long copy, string broker);
}
