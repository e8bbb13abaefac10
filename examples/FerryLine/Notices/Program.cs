using FerryLine.Contracts;
using FerryLine.Notices;
using FerryLine.Shared;
using GentleCourier;

// Notices, a worker with slow, uneven work: composes what is shown on the piers.
var builder = Host.CreateApplicationBuilder(args);
builder.Services.AddGentleCourier(builder.Configuration.GetSection("Courier"), courier => courier
    .UseSqlite()
    .UsePostgres()
    .CreateTables(
        "CREATE TABLE IF NOT EXISTS notice (event_id TEXT NOT NULL, sailing TEXT NOT NULL, text TEXT NOT NULL);")
    .Receive("notices", queue => queue
        .Handle<SailingDeparted, AnnounceDeparture>()
        .Handle<DeckNearlyFull, AnnounceCrowd>()));
await builder.Build().RunAsync();
