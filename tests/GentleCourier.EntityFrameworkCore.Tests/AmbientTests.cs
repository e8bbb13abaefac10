using System.Transactions;
using GentleCourier.Conformance;
using GentleCourier.Engines;
using GentleCourier.Postgres.Tests;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;

namespace GentleCourier.EntityFrameworkCore.Tests;

/// <summary>
/// A context and what surrounds it: a transaction, which only PostgreSQL's provider takes part in, and a server.
/// </summary>
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

    /// <summary>
    /// Migrations are in nobody's way: a server that is away, or knows no such password, is what it is.
    /// </summary>
    [Theory]
    [InlineData("owner:wrong@", "", "password")]
    [InlineData("", "127.0.0.1:1", "cannot")]
    public async Task What_is_no_matter_of_tables_does_not_ask_for_migrations(
        string owner, string server, string expected)
    {
        var place = new Databases();
        await using var crossing = new Crossing(place);
        await crossing.RouteAsync(("test.tap", "taps"));
        var address = place.Store("harbour");
        if (owner.Length > 0) address = address.Replace("owner@", owner, StringComparison.Ordinal);
        if (server.Length > 0)
            address = address.Replace($"127.0.0.1:{SharedServer.One.Port}", server, StringComparison.Ordinal);
        var reports = new Reports();
        var harbour = crossing.Build("harbour", c => c.UseDbContext<HarbourContext>(),
            new() { ["Courier:Store"] = address },
            s => s.AddDbContext<HarbourContext>((sp, o) => o.UseStore(sp.GetRequiredService<IStorePort>()))
                .AddSingleton<ILoggerFactory>(reports));
        try
        {
            await harbour.StartAsync();
        }
        catch (CourierException e)
        {
            reports.Lines.Enqueue(e.Message);
        }
        Assert.Contains(reports.Lines, line => line.Contains(expected, StringComparison.OrdinalIgnoreCase));
        Assert.DoesNotContain(reports.Lines, line => line.Contains("migrations", StringComparison.Ordinal));
    }
}
