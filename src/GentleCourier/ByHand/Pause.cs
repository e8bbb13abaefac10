namespace GentleCourier.ByHand;

/// <summary>A pause that somebody has ordered by hand: while it lasts nothing begins.</summary>
/// <param name="By">Who has ordered it.</param>
/// <param name="Why">Why; null where that was not said.</param>
/// <param name="For">For how long it has lasted, by the clock of the database that it is written in.</param>
/// <param name="Left">How long it still lasts by itself; null: until somebody ends it.</param>
public sealed record Pause(string By, string? Why, TimeSpan For, TimeSpan? Left);
