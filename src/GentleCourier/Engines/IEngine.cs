using System.Diagnostics.CodeAnalysis;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Engines;

/// <summary>
/// A kind of place in which stores and brokers live. An address such as <c>sqlite:/var/lib/ferry/harbour.db</c> names
/// the engine by its scheme, so that moving to another one is a change of configuration. Thread-safe.
/// </summary>
public interface IEngine
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
    IBroker CreateCompanion(EngineAddress store, TimeProvider clock, ILogger? logger = null) =>
        CreateBroker(store, clock, logger);
}

/// <summary>An address in two parts, <c>scheme:location</c>.</summary>
/// <param name="Scheme">Names the engine; lower case.</param>
/// <param name="Location">What the engine makes of it: a path, a host. It may hold a secret: do not show it.</param>
public sealed record EngineAddress(string Scheme, string Location)
{
    /// <summary>Splits <paramref name="text"/> at its first colon.</summary>
    /// <returns>False where there is no scheme or no location.</returns>
    public static bool TryParse(string? text, [NotNullWhen(true)] out EngineAddress? address)
    {
        var colon = text?.IndexOf(':', StringComparison.Ordinal) ?? -1;
        address = colon > 0 && colon < text!.Length - 1 && text.AsSpan(0, colon).IndexOfAnyExceptInRange('a', 'z') < 0
            ? new EngineAddress(text[..colon], text[(colon + 1)..])
            : null;
        return address is not null;
    }

    /// <summary>The scheme alone: a location may hold a secret.</summary>
    public override string ToString() => $"{Scheme}:…";
}
