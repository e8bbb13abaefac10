namespace GentleCourier.Engines;

/// <summary>
/// The port to a service's own database, in its parts. All members are thread-safe, and all throw
/// <see cref="CourierException"/> where the database cannot be reached or used.
/// </summary>
internal interface IStorePort : IStore, IOutboxPort, IRelayPort, IInboxPort, IStoreReports, IHeldEvents,
    IHousekeeping
{
    /// <summary>Events that wait until they are due.</summary>
    ILaterPort Later { get; }

    /// <summary>The schedules of recurring events.</summary>
    ISchedulePort Schedules { get; }
}
