using GentleCourier.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Infrastructure;

namespace GentleCourier;

/// <summary>Makes Gentle Courier's tables part of a model.</summary>
public static class CourierModel
{
    /// <summary>
    /// Adds the tables of outbox and inbox, as <c>courier schema</c> would make them, so that the context's own
    /// migrations make and change them. Call it in <c>OnModelCreating</c>.
    /// </summary>
    /// <param name="model">The model.</param>
    /// <param name="database">
    /// The context's <see cref="DbContext.Database"/>: the tables differ between PostgreSQL and SQLite.
    /// </param>
    /// <param name="inMigrations">
    /// False leaves the tables out of migrations and of <see cref="DatabaseFacade.EnsureCreated"/>: then <c>courier
    /// schema apply</c> makes them, or the host at its start, where <c>Courier:CreateMissing</c> allows it.
    /// </param>
    /// <param name="schema">On PostgreSQL, the schema of the tables: that of the store's address.</param>
    /// <exception cref="NotSupportedException">
    /// The context works on another database than PostgreSQL or SQLite.
    /// </exception>
    public static ModelBuilder AddGentleCourier(
        this ModelBuilder model, DatabaseFacade database, bool inMigrations = true, string schema = "courier")
    {
        ArgumentNullException.ThrowIfNull(model);
        ArgumentNullException.ThrowIfNull(database);
        ArgumentException.ThrowIfNullOrEmpty(schema);
        switch (database.ProviderName)
        {
            case "Npgsql.EntityFrameworkCore.PostgreSQL":
                StoreModel.AddPostgres(model, schema, inMigrations);
                break;
            case "Microsoft.EntityFrameworkCore.Sqlite":
                StoreModel.AddSqlite(model, inMigrations);
                break;
            case var other:
                throw new NotSupportedException(
                    $"outbox and inbox cannot be kept by the provider {other}; use "
                    + "Npgsql.EntityFrameworkCore.PostgreSQL or Microsoft.EntityFrameworkCore.Sqlite");
        }
        return model;
    }
}
