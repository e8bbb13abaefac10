using GentleCourier.Engines;
using Microsoft.Extensions.Logging;

namespace GentleCourier.Sqlite;

/// <summary>
/// Stores and brokers in SQLite files, shared by the processes of one host. Addresses are <c>sqlite:PATH</c>; the path
/// may be relative to the working directory. Network file systems are not supported: SQLite's locks do not work there.
/// </summary>
internal sealed class SqliteEngine : IEngine
{
    internal const string Name = "sqlite";

    /// <inheritdoc/>
    public string Scheme => Name;

    /// <inheritdoc/>
    public string StoreSchema => StoreTables.Schema.Sql;

    /// <inheritdoc/>
    public string BrokerSchema => BrokerTables.Schema.Sql;

    /// <inheritdoc/>
    public bool HoldsPassword(EngineAddress address) => false;

    /// <inheritdoc/>
    public IStorePort CreateStore(EngineAddress address, TimeProvider clock, ILogger? logger = null)
    {
        ArgumentNullException.ThrowIfNull(address);
        return new SqliteStore(new SqliteFile(address.Location), clock, logger);
    }

    /// <inheritdoc/>
    public IBroker CreateBroker(EngineAddress address, TimeProvider clock, ILogger? logger = null)
    {
        ArgumentNullException.ThrowIfNull(address);
        return new SqliteBroker(new SqliteFile(address.Location), clock, logger);
    }

    /// <inheritdoc/>
    /// <remarks>In a file of its own beside the store's, so that neither waits for the other's writes.</remarks>
    public IBroker CreateCompanion(EngineAddress store, TimeProvider clock, ILogger? logger = null)
    {
        ArgumentNullException.ThrowIfNull(store);
        return CreateBroker(store with { Location = $"{store.Location}-companion" }, clock, logger);
    }
}
