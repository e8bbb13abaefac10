using GentleCourier.Engines;

namespace GentleCourier.Conformance;

/// <summary>
/// Where the scenarios of one test take place. An engine plugs itself in by deriving this, and a class of each kind of
/// scenarios with it.
/// </summary>
public abstract class Place : IAsyncDisposable
{
    /// <summary>The engine.</summary>
    internal abstract IEngine Engine { get; }

    /// <summary>The engine of the services' stores, where it is another one.</summary>
    internal virtual IEngine StoreEngine => Engine;

    /// <summary>What has to be set of every service here.</summary>
    public virtual IReadOnlyDictionary<string, string?> Settings { get; } = new Dictionary<string, string?>();

    /// <summary>The test's own broker, as the services see it.</summary>
    internal virtual IBroker OpenBroker(TimeProvider clock) => Engine.CreateBroker(Crossing.Parse(Broker), clock);

    /// <summary>How often an event kills its worker before anybody counts.</summary>
    public virtual int UncountedDeaths => 0;

    /// <summary>The address of the broker that all services of the test share; there is none yet.</summary>
    public abstract string Broker { get; }

    /// <summary>The address of a service's store, a database of its own; it has no tables yet.</summary>
    public abstract string Store(string service);

    /// <summary>
    /// How the recorded version of a store's or a broker's tables is changed: what follows UPDATE, with <c>{0}</c> for
    /// the new values.
    /// </summary>
    public abstract string RecordOf(string part);

    /// <summary>A statement that keeps everybody else from publishing until its transaction ends.</summary>
    public abstract string LockBroker { get; }

    /// <summary>Deletes everything.</summary>
    public abstract ValueTask DisposeAsync();
}
