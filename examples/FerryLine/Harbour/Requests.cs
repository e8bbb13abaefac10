namespace FerryLine.Harbour;

/// <summary>What a gate sends; it is not looked at here, since the gate must have its answer at once.</summary>
internal sealed record Tap(string Number, string Pier, string Card, string Sailing, DateTimeOffset TappedAt);

internal sealed record Departure(string Sailing, DateTimeOffset DepartedAt);

internal sealed record PlannedSailing(string Sailing, DateTimeOffset DepartsAt);

internal sealed record Cancellation(string Sailing);
