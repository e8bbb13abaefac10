using GentleCourier.ByHand;
using GentleCourier.Scheduling;
using GentleCourier.Tables;
using GentleCourier.Watching;

namespace GentleCourier.Engines;

/// <summary>
/// The port to a service's own database, in its parts. All members are thread-safe, and all throw
/// <see cref="CourierException"/> where the database cannot be reached or used.
/// </summary>
internal interface IStorePort : IStore, IOutboxPort, IRelayPort, IInboxPort, IHousekeeping
{
    /// <summary>Events that wait until they are due.</summary>
    ILaterPort Later { get; }

    /// <summary>All tables, for what is not on an event's way.</summary>
    ITables Tables { get; }

    /// <summary>
    /// How many connections its services may have open at once in this process; null: as many as they like.
    /// </summary>
    int? MostConnections { get; }

    /// <summary>How full the outbox is, and how its relay does.</summary>
    Task<OutboxFigures> ReadOutboxFiguresAsync(CancellationToken cancellationToken = default);
}

/// <summary>What is kept in a store's tables, and is the same on every engine.</summary>
internal static class StoreTablesOf
{
    extension(IStorePort store)
    {
        /// <summary>The schedules of recurring events.</summary>
        public ScheduleTable Schedules => new(store.Tables);

        /// <summary>Events that wait until they are due, by hand.</summary>
        public LaterTable LaterEvents => new(store.Tables);

        /// <summary>Where its relay routes events.</summary>
        public RouteTable Routes => new(store.Tables);

        /// <summary>Whether somebody has paused its relay by hand.</summary>
        public RelayPauseTable RelayPause => new(store.Tables);

        /// <summary>Events that wait for the relay.</summary>
        public WaitingTable Waiting => new(store.Tables);

        /// <summary>Events that stayed in the outbox.</summary>
        public IHeldEvents Held => new HeldTable(store.Tables);

        /// <summary>What was handled.</summary>
        public InboxTable Inbox => new(store.Tables);
    }
}
