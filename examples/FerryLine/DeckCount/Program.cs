using System.Data.Common;
using FerryLine.Contracts;
using FerryLine.DeckCount;
using FerryLine.Shared;
using GentleCourier;
using Microsoft.EntityFrameworkCore;

// Deck count, a worker: how many people are on board each sailing. It reports a deck that is nearly full, as an event.
// It keeps what it knows with EF Core.
var builder = Host.CreateApplicationBuilder(args);
builder.AddTraces("DeckCount");
builder.Services.AddSingleton(Timetable.Read(builder.Configuration["FerryLine:Data"]!));
builder.Services.AddDbContext<DeckContext>((services, options) => options.UseCourierStore(
    services, (o, connection) => o.UseSqlite(connection), (o, connection) => o.UseNpgsql(connection)));
builder.Services.AddGentleCourier(builder.Configuration, courier => courier
    .UseSqlite()
    .UsePostgres()
    .UseAmqp()
    .UseDbContext<DeckContext>()
    .Receive("deck-count", queue => queue
        .Enlist<DeckContext>()
        .Handle<PassengerBoarded, CountPassenger>()
        .Handle<SailingDeparted, CloseSailing>()));
var host = builder.Build();

// A real service would run its migrations here, or before.
for (var tries = 1; ; tries++)
{
    try
    {
        await using var scope = host.Services.CreateAsyncScope();
        await scope.ServiceProvider.GetRequiredService<DeckContext>().Database.EnsureCreatedAsync();
        break;
    }
    catch (Exception e)
        when (tries < 20 && (
        e is DbException or CourierException or InvalidOperationException { InnerException: DbException }))
    {
        // Another instance makes the tables at this moment, or the database is away: a little later it works.
        await Task.Delay(TimeSpan.FromMilliseconds(500));
    }
}
await host.RunAsync();
