namespace GentleCourier;

/// <summary>
/// The places between any two writes of the library, by name. Tests arm them to kill the process right there, or a host
/// alone; unarmed, a place is one check.
/// </summary>
internal static class FaultPoint
{
    public const string SchemaNotCommitted = "schema: written, not committed";
    public const string StorePreparedOnly = "start: store prepared, broker not";
    public const string TopologyNotCommitted = "topology: written, not committed";
    public const string AddedNotCommitted = "outbox: added, not committed";
    public const string LeadsNotPublished = "relay: leads, nothing published";
    public const string PublishedNotMarked = "relay: published, not marked";
    public const string NextUnderWayNotMarked = "relay: next one under way, not marked";
    public const string StoppedNotResigned = "relay: stopped, not resigned";
    public const string DueNotMoved = "timekeeper: due, not moved";
    public const string DueMovedNotTold = "timekeeper: due moved, nobody told";
    public const string DueNotFired = "timekeeper: schedule due, not fired";
    public const string FiredNotKnown = "timekeeper: schedule fired, not known here";
    public const string DeclaredNotSeen = "schedules: declared, not seen";
    public const string WrittenNotCommitted = "broker: written, not committed";
    public const string CommittedNotConfirmed = "broker: committed, not confirmed";
    public const string HandedOverNotHandled = "receiver: handed over, not handled";
    public const string ArrivalSettledNotHandled = "receiver: settled on arrival, not handled";
    public const string HandledNotCommitted = "receiver: handled, not committed";
    public const string CommittedNotSettled = "receiver: committed, not settled";
    public const string TakenOverNotAccepted = "receiver: taken over, not accepted";

    /// <summary>Every place.</summary>
    public static IReadOnlyList<string> All { get; } =
    [
        SchemaNotCommitted, StorePreparedOnly, TopologyNotCommitted, AddedNotCommitted, LeadsNotPublished,
        PublishedNotMarked, NextUnderWayNotMarked, StoppedNotResigned, DueNotMoved, DueMovedNotTold, DueNotFired,
        FiredNotKnown, DeclaredNotSeen, WrittenNotCommitted, CommittedNotConfirmed, HandedOverNotHandled,
        ArrivalSettledNotHandled, HandledNotCommitted, CommittedNotSettled, TakenOverNotAccepted,
    ];

    private static readonly AsyncLocal<Action<string>?> Arming = new();
    private static volatile bool isAnyArmed;

    /// <summary>
    /// What happens at each place, called with its name: in this flow of execution, and in all that it starts from now
    /// on. So hosts that run side by side are armed apart.
    /// </summary>
    public static Action<string>? Armed
    {
        set
        {
            isAnyArmed |= value is not null;
            Arming.Value = value;
        }
    }

    public static void Pass(string name)
    {
        if (isAnyArmed) Arming.Value?.Invoke(name);
    }
}
