using GentleCourier.Amqp.Broker;
using GentleCourier.Amqp.Reaching;
using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Amqp;

/// <summary>
/// Brokers that speak AMQP 1.0 (ISO/IEC 19464). Addresses are <c>amqps://USER@HOST:PORT,HOST:PORT/</c>, or
/// <c>amqp://…</c> without TLS; several hosts are tried in turn. After the question mark may stand
/// <c>queue=/amq/queue/{queue}</c>, how the broker names a queue; <c>authority=FILE</c>, whose word is taken for who it
/// is; <c>certificate=FILE</c> and <c>key=FILE</c>, who this program is; <c>hostname=NAME</c>, which host is meant
/// where one stands for several; and <c>dead-letters=ADDRESS</c>, where receivers without a store set events aside. The
/// password is in the variable AMQP_PASSWORD or in <c>password-file=FILE</c>; it may be part of the address where that
/// comes from a secret configuration.
/// </summary>
/// <remarks>
/// Such a broker hands over and takes back. The rest is the library's: routes are those of <c>Courier:Routes</c>, and
/// what fails goes on in a companion in the receiving service's store.
/// </remarks>
internal sealed class AmqpEngine : IEngine
{
    /// <summary>An engine of addresses of one scheme.</summary>
    /// <param name="isSecure">Whether it is <c>amqps</c>, over TLS; otherwise <c>amqp</c>.</param>
    public AmqpEngine(bool isSecure) => Scheme = isSecure ? AmqpAddress.SecureScheme : AmqpAddress.Scheme;

    /// <inheritdoc/>
    public string Scheme { get; }

    /// <inheritdoc/>
    public string StoreSchema => throw new CourierException(
        "an AMQP 1.0 broker holds no store; a service's store is in its own database, by the engine sqlite or "
        + "postgres");

    /// <inheritdoc/>
    public string BrokerSchema => """
        # What an operator declares on an AMQP 1.0 broker, by the means of its own: the protocol has none.
        #
        # For each queue that a service receives from (`courier doctor` and the service's start say which are missing):
        #   - a durable queue, replicated where the broker can, that keeps events until they are accepted;
        #   - no limit of age, and none of length that discards what is in it: one that refuses what comes is good,
        #     the outbox keeps it;
        #   - no limit of deliveries below 5, and no other queue for what is rejected: nothing is ever rejected there.
        # For the services' user: the rights to attach links to these queues, to send and to receive; none to declare.
        #
        # A service's address says how the broker names a queue, such as amqps://USER@HOST/?queue=/amq/queue/{queue}
        # Which events go to which queue is in the publishers' settings: Courier:Routes:TYPE = QUEUE,QUEUE
        # Only for receivers without a store, a second durable queue each, for what they set aside: the address says
        # which, such as dead-letters=/amq/queue/{queue}.dead
        """;

    /// <inheritdoc/>
    public bool HoldsPassword(EngineAddress address) => AmqpAddress.Parse(address).Password is not null;

    /// <inheritdoc/>
    public IStorePort CreateStore(EngineAddress address, TimeProvider clock, ILogger? logger = null) =>
        throw NoStore();

    /// <inheritdoc/>
    public IBroker CreateBroker(EngineAddress address, TimeProvider clock, ILogger? logger = null) =>
        new AmqpBroker(AmqpAddress.Parse(address), clock, logger);

    /// <summary>There is no store of this engine to be beside.</summary>
    public IBroker CreateCompanion(EngineAddress store, TimeProvider clock, ILogger? logger = null) =>
        throw NoStore();

    private static CourierException NoStore() => new(
        "Courier:Store must be an address of a database, sqlite: or postgres:; a broker cannot hold a store");
}
