using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier;

/// <summary>Lets a service's contexts follow its store from engine to engine.</summary>
public static class ContextProviders
{
    /// <summary>
    /// Has the context work on the store's database, by the provider for the engine that <c>Courier:Store</c> names. So
    /// a service moves to another engine by its settings alone. Call it in <c>AddDbContext</c>,
    /// <c>AddDbContextFactory</c> or <c>AddDbContextPool</c>.
    /// </summary>
    /// <param name="options">Those of the context.</param>
    /// <param name="services">The application's services.</param>
    /// <param name="sqlite">
    /// For a store in a SQLite file: <c>(options, connection) => options.UseSqlite(connection)</c>.
    /// </param>
    /// <param name="postgres">
    /// For a store on PostgreSQL: <c>(options, connection) => options.UseNpgsql(connection)</c>.
    /// </param>
    /// <exception cref="CourierException">The store's engine has no provider here; the message says how.</exception>
    public static DbContextOptionsBuilder UseCourierStore(
        this DbContextOptionsBuilder options, IServiceProvider services,
        Action<DbContextOptionsBuilder, string>? sqlite = null,
        Action<DbContextOptionsBuilder, string>? postgres = null)
    {
        ArgumentNullException.ThrowIfNull(options);
        ArgumentNullException.ThrowIfNull(services);
        var store = services.GetRequiredService<IStore>();
        var (use, remedy) = store.Engine switch
        {
            "sqlite" => (sqlite, "sqlite: (o, connection) => o.UseSqlite(connection), of "
                + "Microsoft.EntityFrameworkCore.Sqlite"),
            "postgres" => (postgres, "postgres: (o, connection) => o.UseNpgsql(connection), of "
                + "Npgsql.EntityFrameworkCore.PostgreSQL"),
            _ => (null, "a provider"),
        };
        if (use is null)
            throw new CourierException(
                $"Courier:Store is {store.DisplayName}, and UseCourierStore is given no provider for the engine "
                + $"{store.Engine}: say {remedy}");
        use(options, store.ConnectionString);
        return options;
    }
}
