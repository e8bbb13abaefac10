using System.Text.Json;
using System.Text.Json.Serialization;
using GentleCourier.Watching;

namespace GentleCourier.Engines;

/// <summary>
/// Where processes that receive say that they live; <see cref="IBrokerReports.ReadFiguresAsync"/> tells of them.
/// Thread-safe; throws <see cref="CourierException"/> where the broker cannot be reached.
/// </summary>
internal interface IWorkerRegister
{
    /// <summary>
    /// A worker lives; what it said before is replaced. Where the broker counts what comes and goes, one of them all
    /// writes the counts into the history meanwhile.
    /// </summary>
    /// <param name="worker">What it says of itself.</param>
    /// <param name="validFor">For how long that is believed.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task BeatAsync(WorkerFigures worker, TimeSpan validFor, CancellationToken cancellationToken = default);

    /// <summary>A worker ends.</summary>
    /// <param name="id">Its <see cref="WorkerFigures.Id"/>.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    Task LeaveAsync(string id, CancellationToken cancellationToken = default);
}

/// <summary>
/// How engines on a database keep what a worker says: as JSON, of which older programs read what they know.
/// </summary>
[JsonSerializable(typeof(WorkerFigures))]
[JsonSourceGenerationOptions(JsonSerializerDefaults.Web)]
internal sealed partial class WorkerJson : JsonSerializerContext
{
    public static string Write(WorkerFigures worker) => JsonSerializer.Serialize(worker, Default.WorkerFigures);

    /// <summary>Null where it cannot be read.</summary>
    /// <param name="json">What was written.</param>
    /// <param name="seen">When, by the broker's clock.</param>
    /// <param name="now">The time by the same clock.</param>
    public static WorkerFigures? Read(string json, DateTimeOffset seen, DateTimeOffset now)
    {
        try
        {
            return JsonSerializer.Deserialize(json, Default.WorkerFigures) is
                { Id: not null, Worker: not null, Version: not null, Receivers: { } receivers } worker
                && receivers.All(static r => r is { Queue: not null, Types: not null, Prefetch: not null, Parallel: > 0,
                    HandlingTimes: null or { IsSound: true }, WaitingTimes: null or { IsSound: true } })
                ? worker with
                {
                    Seen = now > seen ? now - seen : default,
                    Ahead = worker.Said == default ? null : worker.Said - seen,
                } : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }

    /// <summary>What can be read, by name.</summary>
    public static IReadOnlyList<WorkerFigures> Sorted(IEnumerable<WorkerFigures?> workers) =>
        [.. workers.OfType<WorkerFigures>().OrderBy(w => w.Worker, StringComparer.Ordinal)
            .ThenBy(w => w.Id, StringComparer.Ordinal)];
}
