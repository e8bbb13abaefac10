using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Postgres;

/// <summary>
/// Stores and brokers in PostgreSQL databases, shared by any number of hosts. Addresses are
/// <c>postgres://USER@HOST:PORT/DATABASE</c>, or <c>postgres://USER@/DATABASE?host=/FOLDER</c> for a socket. After the
/// question mark may stand <c>schema=NAME</c>, for another schema than <c>courier</c>; <c>isolation=serializable</c> or
/// <c>repeatable-read</c>, for the transactions in which events are handled; and any setting of the driver, such as
/// <c>maximum pool size=20</c>. The password is best in PGPASSWORD or a password file (PGPASSFILE, ~/.pgpass); it may
/// be part of the address where that comes from a secret configuration.
/// </summary>
/// <remarks>
/// TLS with a verified certificate is required for every host but this one, unless the address says otherwise. Times of
/// leases and delays come from the server's clock.
/// </remarks>
internal sealed class PostgresEngine : IEngine
{
    internal const string Name = "postgres";

    /// <inheritdoc/>
    public string Scheme => Name;

    /// <inheritdoc/>
    public string StoreSchema => StoreTables.Schema.Sql;

    /// <inheritdoc/>
    public string BrokerSchema => BrokerTables.Schema.Sql;

    /// <inheritdoc/>
    public bool HoldsPassword(EngineAddress address) => PostgresAddress.Parse(address).HoldsPassword;

    /// <inheritdoc/>
    public IStorePort CreateStore(EngineAddress address, TimeProvider clock, ILogger? logger = null) =>
        new PostgresStore(PostgresAddress.Parse(address), clock, logger);

    /// <inheritdoc/>
    public IBroker CreateBroker(EngineAddress address, TimeProvider clock, ILogger? logger = null) =>
        new PostgresBroker(PostgresAddress.Parse(address), clock, logger);

    /// <inheritdoc/>
    public IBroker CreateCompanion(EngineAddress store, TimeProvider clock, ILogger? logger = null) =>
        CreateBroker(store, clock, logger);
}
