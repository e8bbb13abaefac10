using GentleCourier;


namespace FerryLine.Contracts;

/// <summary>A passenger has tapped a card at the gate of a pier and gone on board.</summary>
[WireType("skerryline.passenger-boarded")]
public sealed record PassengerBoarded(string Pier, string Card, string Sailing, DateTimeOffset TappedAt);

/// <summary>A sailing has left its pier.</summary>
[WireType("skerryline.sailing-departed")]
public sealed record SailingDeparted(string Sailing, DateTimeOffset DepartedAt);

/// <summary>A sailing has reached nine tenths of what its vessel may carry.</summary>
[WireType("skerryline.deck-nearly-full")]
public sealed record DeckNearlyFull(string Sailing, int OnBoard, int Limit);

/// <summary>A sailing leaves in an hour.</summary>
[WireType("skerryline.sailing-reminder")]
public sealed record SailingReminder(string Sailing, DateTimeOffset DepartsAt);

/// <summary>The accounts of the day are to be closed.</summary>
[WireType("skerryline.accounts-due")]
public sealed record AccountsDue;
