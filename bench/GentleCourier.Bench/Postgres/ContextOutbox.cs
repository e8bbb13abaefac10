using GentleCourier.Engines;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Npgsql;

namespace GentleCourier.Bench.Postgres;

/// <summary>
/// A context that saves a change and an event, against the same context that saves the change and an entity with the
/// same bytes, or the change alone. The relay stands still.
/// </summary>
internal sealed class ContextOutbox(bool plain = true) : IBenchmark
{
    private const int Clients = 8;

    public string Name => plain ? "pg-context" : "pg-context-none";

    public string What =>
        $"PostgreSQL with EF Core, {Clients} clients: a pooled context that looks, inserts, and saves with one event, "
        + (plain ? "against the same with an entity of the same bytes" : "against the same without");

    public int Events => 8_000;

    public Task<double> OursAsync(Workshop workshop) => RunAsync("context", publishes: true);

    public Task<double> BareAsync(Workshop workshop) => RunAsync("bare_context", publishes: false);

    private async Task<double> RunAsync(string database, bool publishes)
    {
        await using var server = new ServerWorkshop();
        var address = ServerWorkshop.AddressOfNew(database);
        // Contexts of one address share a pool, and its connections were to the database that has gone.
        NpgsqlConnection.ClearAllPools();
        var host = server.Host(
            address, ServerWorkshop.Address("target"), courier =>
                courier.UseDbContext<TapContext>(), new() { ["Courier:Relay:Enabled"] = "false" },
            services =>
                services.AddDbContextPool<TapContext>(
                (sp, options) => options.UseNpgsql(sp.GetRequiredService<IStorePort>().ConnectionString)));
        await using (
            var scope = host.Services.CreateAsyncScope()) await scope.ServiceProvider.GetRequiredService<TapContext>()
            .Database.EnsureCreatedAsync();
        await host.StartAsync();

        return await ServerWorkshop.RateAsync(Events, Clients, ClientAsync);

        async Task ClientAsync(int client, Action ready)
        {
            for (var i = -50; i < Events / Clients; i++)
            {
                if (i == 0) ready();
                var tap = Workshop.Tap(((i + 50) * Clients) + client);
                await using var scope = host.Services.CreateAsyncScope();
                var context = scope.ServiceProvider.GetRequiredService<TapContext>();
                await context.Taps.CountAsync(t => t.Card == tap.Card);
                context.Taps.Add(new StoredTap { Pier = tap.Pier, Card = tap.Card, Sailing = tap.Sailing });
                if (publishes) context.AddEvent(tap);
                else if (plain)
                    context.Events.Add(new StoredEvent { Type = "bench.tap", Json = Workshop.Json(tap.Number) });
                await context.SaveChangesAsync();
            }
        }
    }
}

internal sealed class TapContext(DbContextOptions<TapContext> options) : DbContext(options)
{
    public DbSet<StoredTap> Taps => Set<StoredTap>();

    public DbSet<StoredEvent> Events => Set<StoredEvent>();

    protected override void OnModelCreating(ModelBuilder modelBuilder)
    {
        modelBuilder.Entity<StoredTap>().HasIndex(t => t.Card);
        modelBuilder.AddGentleCourier(Database);
    }
}

internal sealed class StoredEvent
{
    public long Id { get; init; }

    public required string Type { get; init; }

    public required byte[] Json { get; init; }
}

internal sealed class StoredTap
{
    public long Id { get; init; }

    public required string Pier { get; init; }

    public required string Card { get; init; }

    public required string Sailing { get; init; }
}
