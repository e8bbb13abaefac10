using System.Diagnostics;
using System.Globalization;
using GentleCourier.Bench.Postgres;
using GentleCourier.Testing;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace GentleCourier.Bench;

/// <summary>
/// What tests cost that try a service out: one trial of a service with three receivers, a context and a schedule, many
/// of them at once, a year of nights, and a receiver by itself.
/// </summary>
internal static class TrialCost
{
    private static readonly DateTimeOffset Noon = new(2031, 6, 14, 12, 0, 0, TimeSpan.Zero);

    [WireType("skerryline.order")]
    public sealed record Order(int Number);

    [WireType("skerryline.order-packed")]
    public sealed record Packed(int Number);

    [WireType("skerryline.night")]
    public sealed record Night;

    internal sealed class Notes(DbContextOptions<Notes> options) : DbContext(options)
    {
        public DbSet<Note> All => Set<Note>();

        protected override void OnModelCreating(ModelBuilder modelBuilder) => modelBuilder.AddGentleCourier(Database);
    }

    internal sealed class Note
    {
        public int Id { get; init; }

        public int Number { get; init; }
    }

    internal sealed class Pack(Notes notes) : IReceiver<Order>
    {
        public Task HandleAsync(Delivery<Order> delivery, CancellationToken cancellationToken)
        {
            notes.All.Add(new Note { Number = delivery.Data.Number });
            notes.AddEvent(new Packed(delivery.Data.Number));
            return notes.SaveChangesAsync(cancellationToken);
        }
    }

    internal sealed class Ship(Notes notes) : IReceiver<Packed>
    {
        public Task HandleAsync(Delivery<Packed> delivery, CancellationToken cancellationToken)
        {
            notes.All.Add(new Note { Number = -delivery.Data.Number });
            return notes.SaveChangesAsync(cancellationToken);
        }
    }

    internal sealed class Close : IReceiver<Night>
    {
        public Task HandleAsync(Delivery<Night> delivery, CancellationToken cancellationToken) => Task.CompletedTask;
    }

    /// <param name="args">How many at once, by default 100; and the engine.</param>
    public static async Task<int> RunAsync(string[] args)
    {
        var atOnce = args.Length > 0 ? int.Parse(args[0], CultureInfo.InvariantCulture) : 100;
        await using var workshop = args is [_, "postgres"] ? new ServerWorkshop() : null;
        await using var server = workshop is null ? null : new TrialServer(ServerWorkshop.AddressOfNew("trials"))
        {
            Migrate = async (_, connection, cancel) =>
            {
                await using var notes = new Notes(new DbContextOptionsBuilder<Notes>().UseNpgsql(connection).Options);
                await notes.Database.EnsureCreatedAsync(cancel);
            },
        };
        Console.WriteLine($"the first trial            {await TimeAsync(() => TryAsync(server)),8:0} ms");
        var times = new List<double>();
        for (var i = 0; i < 20; i++) times.Add(await TimeAsync(() => TryAsync(server)));
        Console.WriteLine($"one after it, median       {times.Order().ElementAt(10),8:0} ms");
        var all = await TimeAsync(() => Task.WhenAll(Enumerable.Range(0, atOnce).Select(_ => TryAsync(server))));
        Console.WriteLine($"{atOnce,3} at once                {all,8:0} ms");
        Console.WriteLine($"a year of nights           {await TimeAsync(() => YearAsync(server)),8:0} ms");
        await TimeAsync(() => AloneAsync(server));
        Console.WriteLine($"a receiver by itself       {await TimeAsync(() => AloneAsync(server)),8:0} ms");
        return 0;
    }

    private static async Task<double> TimeAsync(Func<Task> what)
    {
        var began = Stopwatch.GetTimestamp();
        await Task.Run(what);
        return Stopwatch.GetElapsedTime(began).TotalMilliseconds;
    }

    private static void Register(HostApplicationBuilder builder)
    {
        builder.Services.AddDbContext<Notes>((services, options) => options.UseCourierStore(
            services, (o, connection) => o.UseSqlite(connection), (o, connection) => o.UseNpgsql(connection)));
        builder.Services.AddGentleCourier(courier => courier.UseSqlite().UsePostgres().UseDbContext<Notes>()
            .Schedule("night", new Night(), schedule => schedule.Cron = "0 3 * * *")
            .Receive("notes", queue => queue.Enlist<Notes>().Handle<Order, Pack>().Handle<Packed, Ship>())
            .Receive("nights", queue => queue.Handle<Night, Close>()));
    }

    private static Task MakeTablesAsync(IServiceProvider services, CancellationToken cancellationToken) =>
        services.GetRequiredService<Notes>().Database.EnsureCreatedAsync(cancellationToken);

    private static async Task TryAsync(TrialServer? server)
    {
        await using var trial = new Trial(
            new TrialOptions { Server = server, Limit = TimeSpan.FromMinutes(2), Start = Noon });
        var service = await trial.StartAsync("notes", Register, MakeTablesAsync);
        for (var i = 1; i <= 3; i++)
            await service.Services.GetRequiredService<IOutbox>().AddAloneAsync(new Order(i));
        await trial.RunUntilIdleAsync();
        await trial.AdvanceByAsync(TimeSpan.FromDays(1));
        if (trial.Deliveries.Count(d => d.Outcome == HandledAs.Handled) != 7)
            throw new InvalidOperationException($"{trial.Deliveries.Count} deliveries");
    }

    private static async Task YearAsync(TrialServer? server)
    {
        await using var trial = new Trial(new TrialOptions { Server = server, Start = Noon });
        await trial.StartAsync("notes", Register, MakeTablesAsync);
        await trial.AdvanceByAsync(TimeSpan.FromDays(365));
        if (trial.Deliveries.Count != 365) throw new InvalidOperationException($"{trial.Deliveries.Count} nights");
    }

    private static async Task AloneAsync(TrialServer? server)
    {
        await using var store = await TrialStore.CreateAsync(
            Register, MakeTablesAsync, new TrialOptions { Server = server });
        var result = await store.HandleAsync(new Order(1));
        if (result.Outcome != HandledAs.Handled) throw new InvalidOperationException(result.ToString());
    }
}
