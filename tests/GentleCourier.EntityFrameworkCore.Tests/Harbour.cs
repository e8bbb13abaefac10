using GentleCourier.Engines;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Design;

namespace GentleCourier.EntityFrameworkCore.Tests;

/// <summary>A business change of a service.</summary>
public sealed class Boarding
{
    public int Id { get; init; }

    public int Tap { get; init; }

    public string Pier { get; set; } = "Longsand";
}

/// <summary>A service's context, with outbox and inbox in its model.</summary>
public class HarbourContext(DbContextOptions options) : DbContext(options)
{
    public DbSet<Boarding> Boardings => Set<Boarding>();

    protected override void OnModelCreating(ModelBuilder modelBuilder)
    {
        ArgumentNullException.ThrowIfNull(modelBuilder);
        modelBuilder.Entity<Boarding>().HasIndex(b => b.Tap);
        modelBuilder.AddGentleCourier(Database);
    }

    // As many a service has it: the library's tables must not take it over.
    protected override void ConfigureConventions(ModelConfigurationBuilder configurationBuilder) =>
        configurationBuilder?.Properties<string>().HaveMaxLength(200);
}

/// <summary>Another context of the same service, on the same database.</summary>
public sealed class QuayContext(DbContextOptions<QuayContext> options) : DbContext(options)
{
    protected override void OnModelCreating(ModelBuilder modelBuilder) =>
        modelBuilder.AddGentleCourier(Database, inMigrations: false);
}

// Migrations belong to one provider. They were made with `dotnet ef migrations add Outbox --context …`.
public sealed class HarbourOnPostgres(DbContextOptions<HarbourOnPostgres> options) : HarbourContext(options)
{
    internal sealed class Factory : IDesignTimeDbContextFactory<HarbourOnPostgres>
    {
        public HarbourOnPostgres CreateDbContext(string[] args) =>
            new(new DbContextOptionsBuilder<HarbourOnPostgres>().UseNpgsql().Options);
    }
}

public sealed class HarbourOnSqlite(DbContextOptions<HarbourOnSqlite> options) : HarbourContext(options)
{
    internal sealed class Factory : IDesignTimeDbContextFactory<HarbourOnSqlite>
    {
        public HarbourOnSqlite CreateDbContext(string[] args) =>
            new(new DbContextOptionsBuilder<HarbourOnSqlite>().UseSqlite("Data Source=none.db").Options);
    }
}

internal static class Providers
{
    /// <summary>The provider for the store's database.</summary>
    public static DbContextOptionsBuilder UseStore(
        this DbContextOptionsBuilder options, IStorePort store, bool retrying = false)
    {
        _ = store.OutboxTable.Contains('.', StringComparison.Ordinal)
            ? options.UseNpgsql(store.ConnectionString, o => _ = retrying ? o.EnableRetryOnFailure() : o)
            : options.UseSqlite(store.ConnectionString);
        return options;
    }
}
