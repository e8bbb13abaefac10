using GentleCourier.Postgres;

namespace GentleCourier;

/// <summary>Makes the engine known to an application.</summary>
public static class PostgresEngineBuilder
{
    /// <summary>
    /// Lets <c>Courier:Store</c> and <c>Courier:Broker</c> be addresses <c>postgres://USER@HOST/DATABASE</c>.
    /// </summary>
    public static CourierBuilder UsePostgres(this CourierBuilder builder)
    {
        ArgumentNullException.ThrowIfNull(builder);
        return builder.AddEngine(typeof(PostgresEngineBuilder).Assembly, static () => new PostgresEngine());
    }
}
