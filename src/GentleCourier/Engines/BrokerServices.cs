using GentleCourier.ByHand;

namespace GentleCourier.Engines;

/// <summary>
/// What a broker has beside publishing and links; null is what it has not. One record, so that whoever stands before a
/// broker passes on what he does not name.
/// </summary>
internal sealed record BrokerServices
{
    /// <summary>What it tells of its queues to people.</summary>
    public IBrokerReports? Reports { get; init; }

    /// <summary>What it has set aside, and the way back.</summary>
    public IDeadLetters? DeadLetters { get; init; }

    /// <summary>What clears away what it need not keep any longer.</summary>
    public IHousekeeping? Housekeeping { get; init; }

    /// <summary>Where those who receive from it say that they live.</summary>
    public IWorkerRegister? Register { get; init; }

    /// <summary>What has been ordered by hand.</summary>
    public IInstructions? Instructions { get; init; }

    /// <summary>The last publish of each store that it has.</summary>
    public IStamps? Stamps { get; init; }

    /// <summary>How many events wait, where it tells that and no more.</summary>
    public IDepths? Depths { get; init; }

    /// <summary>What takes events over from a broker that can do less.</summary>
    public ITakeOver? TakeOver { get; init; }

    /// <summary>
    /// The one that has taken over what this one cannot do: whoever receives from the one receives from both.
    /// </summary>
    public IBroker? Companion { get; init; }

    /// <summary>What looks it over.</summary>
    public IExaminable? Examination { get; init; }

    /// <summary>What reckons anew what it has counted.</summary>
    public IRecount? Recount { get; init; }

    /// <summary>Itself, by which a store of its engine knows whether the two are in one database.</summary>
    public object? Database { get; init; }
}

/// <summary>The services of a broker, by their names.</summary>
internal static class BrokerServicesOfBroker
{
    extension(IBroker broker)
    {
        public IBrokerReports? Reports => broker.Services.Reports;

        public IDeadLetters? DeadLetters => broker.Services.DeadLetters;

        public IHousekeeping? Housekeeping => broker.Services.Housekeeping;

        public IWorkerRegister? Register => broker.Services.Register;

        public IInstructions? Instructions => broker.Services.Instructions;

        public IStamps? Stamps => broker.Services.Stamps;

        public IDepths? Depths => broker.Services.Depths;

        public ITakeOver? TakeOver => broker.Services.TakeOver;

        public IBroker? Companion => broker.Services.Companion;
    }
}
