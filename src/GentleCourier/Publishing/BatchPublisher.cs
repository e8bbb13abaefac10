using GentleCourier.Engines;
using GentleCourier.Hosting;
using GentleCourier.Telemetry;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Publishing;

/// <summary>
/// Brings a batch to the broker, and says what is to be marked of it. One batch at a time.
/// </summary>
internal sealed partial class BatchPublisher(
    IBroker broker, IRelayPort store, Stamper stamper, RelayOptions options, CourierOptions courier, TimeProvider clock,
    ILogger logger, IWitness? witness)
{
    private readonly FanOut? fanOut = broker.Abilities.HasFlag(BrokerAbilities.Routes) ? null
        : new FanOut(broker, store, courier.Routes.Addresses, options.Lease / 3, clock);
    private readonly Repeats repeats = new();

    /// <summary>Publishes a batch.</summary>
    /// <returns>What is to be marked.</returns>
    public async Task<OutboxMarks> PublishAsync(OutboxBatch batch, CancellationToken cancellationToken)
    {
        using var span = Spans.Send(batch.Rows);
        var began = clock.GetTimestamp();
        IReadOnlyList<Answer> answers;
        IReadOnlySet<string> heldBefore = new HashSet<string>();
        try
        {
            if (fanOut is null) answers = await PublishAllAsync(batch.Rows, cancellationToken).ConfigureAwait(false);
            else (answers, heldBefore) = await fanOut.PublishAsync(batch, cancellationToken).ConfigureAwait(false);
        }
        catch (Exception e)
        {
            span.Failed(e);
            Meters.Send(batch.Rows, clock.GetElapsedTime(began), e);
            throw;
        }
        FaultPoint.Pass(FaultPoint.PublishedNotMarked);
        Meters.Send(batch.Rows, clock.GetElapsedTime(began));
        Meters.Send(answers);
        foreach (var answer in answers)
        {
            Log(answer);
            if (answer.Result.Fate == PublishFate.Taken) witness?.Relayed(answer.Row.Event);
        }
        if (answers.All(a => a.Result.Fate == PublishFate.Taken)) repeats.Forget();

        var marks = Marking.Of(answers, heldBefore, attempts => BackOff.Delay(
            attempts, options.FirstDelay, options.MaxDelay, Random.Shared.NextDouble()), options.Lease / 3);
        if (stamper.Unmarked is not { } confirmed) return marks;
        stamper.Marking();
        return marks with { By = confirmed };
    }

    private async Task<IReadOnlyList<Answer>> PublishAllAsync(
        IReadOnlyList<OutboxRow> rows, CancellationToken cancellationToken)
    {
        var results = await PublishAsync(rows, cancellationToken).ConfigureAwait(false);
        return [.. rows.Select((row, i) => new Answer(row, null, results[i]))];
    }

    /// <summary>One that the broker cannot take must not keep the others: they are divided until it is alone.</summary>
    private async Task<IReadOnlyList<PublishResult>> PublishAsync(
        IReadOnlyList<OutboxRow> rows, CancellationToken cancellationToken)
    {
        try
        {
            return await stamper.PublishAsync(new EncodedEventList(rows), cancellationToken).ConfigureAwait(false);
        }
        catch (CourierException e) when (e.IsAboutContent)
        {
            if (rows.Count == 1) return [PublishResult.Refused(e.Message)];
        }
        var (first, second) = (rows.Take(rows.Count / 2).ToList(), rows.Skip(rows.Count / 2).ToList());
        var results = (await PublishAsync(first, cancellationToken).ConfigureAwait(false)).ToList();
        // What follows an event that has to wait waits with it, in the other half, too.
        var waiting = first.Where((_, i) => results[i].Fate == PublishFate.Deferred).Select(r => r.Event.PartitionKey)
            .OfType<string>().ToHashSet(StringComparer.Ordinal);
        var others = second.Where(r => r.Event.PartitionKey is not { } key || !waiting.Contains(key)).ToList();
        var further = new Queue<PublishResult>(
            others.Count == 0 ? [] : await PublishAsync(others, cancellationToken).ConfigureAwait(false));
        results.AddRange(second.Select(r => r.Event.PartitionKey is { } key && waiting.Contains(key)
            ? PublishResult.Deferred(Marking.Follows) : further.Dequeue()));
        return results;
    }

    private void Log(Answer answer)
    {
        var (row, result) = (answer.Row, answer.Result);
        if (result.Fate == PublishFate.Deferred && row is { Attempts: 0, IsHeld: false }
            && repeats.IsTimeToSay($"{row.Event.Type}{To(answer)}", out var times))
            LogDeferred(logger, row.Event.Type, row.Event.Id, To(answer), result.Reason!, times);
        else if (result.Fate == PublishFate.Refused)
            LogRefused(logger, row.Event.Type, row.Event.Id, To(answer), result.Reason!);
    }

    private static string To(Answer answer) =>
        (answer.Address ?? answer.Row.Event.Address) is { } address ? $" for '{address}'" : "";

    /// <summary>The events of a batch, without copying them.</summary>
    private sealed class EncodedEventList(IReadOnlyList<OutboxRow> rows) : IReadOnlyList<EncodedEvent>
    {
        public int Count => rows.Count;

        public EncodedEvent this[int index] => rows[index].Event;

        public IEnumerator<EncodedEvent> GetEnumerator() => rows.Select(row => row.Event).GetEnumerator();

        System.Collections.IEnumerator System.Collections.IEnumerable.GetEnumerator() => GetEnumerator();
    }

    [LoggerMessage(105, LogLevel.Warning,
        "Event {Type} {Id} is held in the outbox{Address} and will be tried again: {Reason} ({Times} like it since all "
        + "were taken)")]
    private static partial void LogDeferred(
        ILogger logger, string type, string id, string address, string reason, int times);

    [LoggerMessage(106, LogLevel.Error,
        "Event {Type} {Id} is set aside in the outbox{Address}, the broker refused it: {Reason}")]
    private static partial void LogRefused(ILogger logger, string type, string id, string address, string reason);
}
