namespace GentleCourier.ByHand;

/// <summary>What somebody has ordered workers to do.</summary>
/// <param name="Queue">The queue; null: with all of theirs.</param>
/// <param name="Worker">Which, by its <see cref="Watching.WorkerFigures.Id"/>; null: all.</param>
/// <param name="Steering">How they are to receive; null: they are to finish what they have, and take no more.</param>
/// <param name="By">Who has ordered it.</param>
/// <param name="Why">Why; null where that was not said.</param>
/// <param name="For">For how long it has stood, by the broker's clock.</param>
/// <param name="Left">How long it still stands; null: as long as the worker lives.</param>
public sealed record Instruction(
    string? Queue, string? Worker, Steering? Steering, string By, string? Why, TimeSpan For, TimeSpan? Left);
