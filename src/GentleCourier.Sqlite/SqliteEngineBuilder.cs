using GentleCourier.Sqlite;

namespace GentleCourier;

/// <summary>Makes the engine known to an application.</summary>
public static class SqliteEngineBuilder
{
    /// <summary>Lets <c>Courier:Store</c> and <c>Courier:Broker</c> be addresses <c>sqlite:PATH</c>.</summary>
    public static CourierBuilder UseSqlite(this CourierBuilder builder)
    {
        ArgumentNullException.ThrowIfNull(builder);
        return builder.AddEngine(typeof(SqliteEngineBuilder).Assembly, static () => new SqliteEngine());
    }
}
