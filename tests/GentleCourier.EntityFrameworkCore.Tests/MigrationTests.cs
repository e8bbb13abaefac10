using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Postgres.Tests;
using GentleCourier.Sqlite.Tests;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.EntityFrameworkCore.Tests;

/// <summary>A service whose own migrations make the tables of outbox and inbox.</summary>
public abstract class MigrationScenarios<TPlace, TContext>(string describe)
    where TPlace : Place, new()
    where TContext : HarbourContext
{
    private static void AddContext(IServiceCollection services) =>
        services.AddDbContext<TContext>((sp, o) => o.UseStore(sp.GetRequiredService<IStorePort>()));

    [Fact]
    public async Task Migrations_make_the_tables_and_events_travel()
    {
        await using var crossing = new Crossing(new TPlace());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = crossing.Build("harbour", c => c.UseDbContext<TContext>(), services: AddContext);
        await using var scope = harbour.Services.CreateAsyncScope();
        var context = scope.ServiceProvider.GetRequiredService<TContext>();
        Assert.False(context.Database.HasPendingModelChanges(), "the model has changed since its migration was made");
        await context.Database.MigrateAsync();
        await harbour.StartAsync();

        context.Boardings.Add(new Boarding { Tap = 1 });
        context.AddEvent(new Tap(1));
        await context.SaveChangesAsync();
        await Crossing.UntilAsync(
            async () => await crossing.FiguresAsync("taps") is { Ready: 1 }, "the tap has been relayed");
    }

    /// <summary>What `courier schema` makes, and what migrations do, must not drift apart.</summary>
    [Fact]
    public async Task The_tables_are_those_that_the_engine_makes()
    {
        await using var crossing = new Crossing(new TPlace());
        var own = crossing.SharedStore("fares");
        await own.PrepareAsync(create: true);
        var migrated = crossing.Build("harbour", c => c.UseDbContext<TContext>(), services: AddContext);
        await using var scope = migrated.Services.CreateAsyncScope();
        await scope.ServiceProvider.GetRequiredService<TContext>().Database.MigrateAsync();

        var expected = await DescribeAsync(own);
        Assert.True(expected.Count > 30, string.Join('\n', expected));
        Assert.Equal(expected, await DescribeAsync(migrated.Store()));
    }

    [Fact]
    public async Task Migrating_back_takes_the_tables_away()
    {
        await using var crossing = new Crossing(new TPlace());
        var harbour = crossing.Build("harbour", c => c.UseDbContext<TContext>(), services: AddContext);
        await using var scope = harbour.Services.CreateAsyncScope();
        var context = scope.ServiceProvider.GetRequiredService<TContext>();
        await context.Database.MigrateAsync();
        await context.GetService<IMigrator>().MigrateAsync(Migration.InitialDatabase);
        Assert.Empty(await DescribeAsync(harbour.Store()));
    }

    private async Task<List<string>> DescribeAsync(IStorePort store)
    {
        await using var connection = await store.OpenConnectionAsync();
        await using var command = connection.CreateCommand();
        command.CommandText = describe;
        await using var reader = await command.ExecuteReaderAsync();
        var lines = new List<string>();
        while (await reader.ReadAsync()) lines.Add(reader.GetString(0));
        return lines;
    }
}

public sealed class PostgresMigrationTests() : MigrationScenarios<Databases, HarbourOnPostgres>("""
    SELECT line FROM (
        SELECT concat_ws(' ', table_name, ordinal_position, column_name, data_type, is_nullable, column_default,
            identity_generation)
        FROM information_schema.columns WHERE table_schema = 'courier'
        UNION ALL
        SELECT concat_ws(' ', conrelid::regclass, conname, pg_get_constraintdef(oid)) FROM pg_constraint
            WHERE connamespace = 'courier'::regnamespace
        UNION ALL
        SELECT indexdef FROM pg_indexes WHERE schemaname = 'courier'
        UNION ALL
        SELECT concat_ws(' ', oid::regclass, (SELECT array_agg(o ORDER BY o) FROM unnest(reloptions) o)) FROM pg_class
            WHERE relnamespace = to_regnamespace('courier')
        UNION ALL
        SELECT 'rows: ' || query_to_xml(format('SELECT * FROM %s', c.oid::regclass), true, true, '')::text
        FROM pg_class c WHERE relnamespace = to_regnamespace('courier') AND relkind = 'r'
    ) AS d (line) ORDER BY line COLLATE "C"
    """);

public sealed class SqliteMigrationTests() : MigrationScenarios<Folder, HarbourOnSqlite>("""
    SELECT line FROM (
        SELECT concat_ws(' ', t.name, c.cid, c.name, c.type, max(c."notnull", c.pk > 0), c.dflt_value, c.pk) AS line
        FROM sqlite_schema t, pragma_table_info(t.name) c WHERE t.type = 'table' AND t.name LIKE 'courier%'
        UNION ALL
        SELECT concat_ws(' ', t.name, i."unique", i.origin, i.partial, c.seqno, c.name)
        FROM sqlite_schema t, pragma_index_list(t.name) i, pragma_index_info(i.name) c WHERE t.type = 'table'
            AND t.name LIKE 'courier%'
    ) ORDER BY line
    """);
