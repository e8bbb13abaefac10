using GentleCourier.Sqlite;

namespace GentleCourier;

/// <summary>The tables of the library, for a migration tool to run or a person to read.</summary>
public static class SqliteSchema
{
    /// <summary>The statements that make a store's tables.</summary>
    public static string Store => new SqliteEngine().StoreSchema;

    /// <summary>The statements that make a broker's tables.</summary>
    public static string Broker => new SqliteEngine().BrokerSchema;
}
