using System.Data.Common;
using FerryLine.Contracts;
using FerryLine.DeckCount;
using GentleCourier.Postgres;
using GentleCourier.Sqlite;
using Microsoft.EntityFrameworkCore;

// Deck count, a worker: how many people are on board each sailing. It reports a deck that is nearly full, as an event. It
// keeps what it knows with EF Core.
var builder = Host.CreateApplicationBuilder(args);
builder.Services.AddSingleton(Timetable.Read(builder.Configuration["FerryLine:Data"]!));
builder.Services.AddDbContext<DeckContext>(DeckContext.UseStore);
builder.Services.AddGentleCourier(builder.Configuration.GetSection("Courier"), courier => courier
    .UseSqlite()
    .UsePostgres()
    .UseDbContext<DeckContext>()
    .Receive("deck-count", queue => queue
        .Enlist<DeckContext>()
        .Handle<PassengerBoarded, CountPassenger>()
        .Handle<SailingDeparted, CloseSailing>()));
var host = builder.Build();

// A real service would run its migrations here, or before.
await using (var scope = host.Services.CreateAsyncScope())
{
    var database = scope.ServiceProvider.GetRequiredService<DeckContext>().Database;
    try
    {
        await database.EnsureCreatedAsync();
    }
    catch (DbException)
    {
        // Another instance may have made the tables at the same moment; then there is nothing left to do.
        await database.EnsureCreatedAsync();
    }
}
await host.RunAsync();
