using System.Transactions;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Postgres.Tests;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace GentleCourier.EntityFrameworkCore.Tests;

/// <summary>A context in a transaction that surrounds it, which only PostgreSQL's provider takes part in.</summary>
public sealed class AmbientTests
{
    private sealed class HarbourWithTables(DbContextOptions<HarbourWithTables> options) : DbContext(options)
    {
        protected override void OnModelCreating(ModelBuilder modelBuilder) =>
            modelBuilder.AddGentleCourier(Database, inMigrations: false);
    }

    /// <summary>Already the first of a process: what the library asks by itself is not part of it.</summary>
    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task An_event_that_is_saved_in_an_ambient_transaction_leaves_if_that_is_completed(bool completes)
    {
        await using var crossing = new Crossing(new Databases());
        await crossing.RouteAsync(("test.tap", "taps"));
        var harbour = await crossing.StartAsync("harbour", c => c.UseDbContext<HarbourWithTables>(), services: s =>
            s.AddDbContext<HarbourWithTables>((sp, o) => o.UseStore(sp.GetRequiredService<IStorePort>())));
        await using (var scope = harbour.Services.CreateAsyncScope())
        {
            var context = scope.ServiceProvider.GetRequiredService<HarbourWithTables>();
            using var ambient = new TransactionScope(TransactionScopeAsyncFlowOption.Enabled);
            context.AddEvent(new Tap(1));
            await context.SaveChangesAsync();
            if (completes) ambient.Complete();
        }
        await harbour.PublishAsync(new Tap(2));
        var expected = completes ? 2 : 1;
        await Crossing.UntilAsync(
            async () => (await crossing.FiguresAsync("taps")).Ready == expected, $"{expected} have been relayed");
    }
}
