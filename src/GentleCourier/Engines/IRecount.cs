using System.Globalization;

namespace GentleCourier.Engines;

/// <summary>
/// Reckons anew what a broker has counted of its rows as they came and went: where somebody has changed rows past the
/// library, the counts would be wrong for ever. Thread-safe; throws <see cref="CourierException"/> where the broker
/// cannot be reached or used.
/// </summary>
internal interface IRecount
{
    /// <summary>About how many rows there are to be gone through.</summary>
    Task<long> EstimateRowsAsync(CancellationToken cancellationToken = default);

    /// <summary>
    /// Counts rows and mends what was counted, each queue by itself and at one moment; events may come and go
    /// meanwhile. While a queue is gone through, what is deleted in the database cannot be cleared away.
    /// </summary>
    /// <param name="within">How long a queue may take: one that takes longer stays as it is.</param>
    /// <param name="cancellationToken">Ends it; what is mended stays so.</param>
    /// <returns>The queues whose counts were wrong, or were not counted, by name.</returns>
    Task<IReadOnlyList<Recounted>> RecountAsync(TimeSpan within, CancellationToken cancellationToken = default);
}

/// <summary>What came of counting a queue anew.</summary>
/// <param name="Queue">The queue.</param>
/// <param name="Waiting">By how many events more are there than was counted; null: it took too long.</param>
/// <param name="DeadLetters">The same of dead letters.</param>
internal sealed record Recounted(string Queue, long? Waiting, long? DeadLetters)
{
    /// <summary>Such as "3 events fewer and 1 dead letter more"; null where it was not counted.</summary>
    public string? Difference => Waiting is { } waiting && DeadLetters is { } letters
        ? string.Join(" and ", new[] { Of(waiting, "event"), Of(letters, "dead letter") }.OfType<string>()) : null;

    private static string? Of(long more, string what) => more == 0 ? null : string.Create(
        CultureInfo.InvariantCulture,
        $"{Math.Abs(more):N0} {what}{(Math.Abs(more) == 1 ? "" : "s")} {(more < 0 ? "fewer" : "more")}");
}
