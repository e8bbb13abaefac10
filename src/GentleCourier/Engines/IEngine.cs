using System.Diagnostics.CodeAnalysis;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Engines;

/// <summary>
/// A kind of place in which stores and brokers live. An address such as <c>sqlite:/var/lib/ferry/harbour.db</c> names
/// the engine by its scheme, so that moving to another one is a change of configuration. Thread-safe.
/// </summary>
internal interface IEngine
{
    /// <summary>The scheme of this engine's addresses, in lower case, without the colon.</summary>
    string Scheme { get; }

    /// <summary>The statements that make a store's tables, for a person to read or a migration tool to run.</summary>
    string StoreSchema { get; }

    /// <summary>The statements that make a broker's tables, for a person to read or a migration tool to run.</summary>
    string BrokerSchema { get; }

    /// <summary>
    /// Whether the address has a password in it: such a one is no good on a command line, where everybody can read it.
    /// </summary>
    /// <exception cref="CourierException">The address cannot be one of this engine's.</exception>
    bool HoldsPassword(EngineAddress address);

    /// <summary>A store at the address; nothing is opened yet.</summary>
    /// <param name="address">Where it is.</param>
    /// <param name="clock">The time, where the engine does not ask a server for it.</param>
    /// <param name="logger">Is told of what fails in the background; null: nobody is.</param>
    /// <exception cref="CourierException">The address cannot be one of this engine's.</exception>
    IStorePort CreateStore(EngineAddress address, TimeProvider clock, ILogger? logger = null);

    /// <summary>A broker at the address; nothing is opened yet.</summary>
    /// <param name="address">Where it is.</param>
    /// <param name="clock">The time, where the engine does not ask a server for it.</param>
    /// <param name="logger">Is told of what fails in the background; null: nobody is.</param>
    /// <exception cref="CourierException">The address cannot be one of this engine's.</exception>
    IBroker CreateBroker(EngineAddress address, TimeProvider clock, ILogger? logger = null);

    /// <summary>
    /// A broker beside a store, for what the services' own broker cannot do; nothing is opened yet.
    /// </summary>
    /// <param name="store">Where the store is.</param>
    /// <param name="clock">The time, where the engine does not ask a server for it.</param>
    /// <param name="logger">Is told of what fails in the background; null: nobody is.</param>
    /// <exception cref="CourierException">The address cannot be one of this engine's.</exception>
    IBroker CreateCompanion(EngineAddress store, TimeProvider clock, ILogger? logger = null);
}
