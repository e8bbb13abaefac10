using FerryLine.Contracts;
using FerryLine.DeckCount;
using GentleCourier.Engines;
using GentleCourier.Postgres;
using GentleCourier.Sqlite;

// Deck count, a worker: how many people are on board each sailing. It reports a deck that is nearly full, as an event.
var builder = Host.CreateApplicationBuilder(args);
builder.Services.AddSingleton(Timetable.Read(builder.Configuration["FerryLine:Data"]!));
builder.Services.AddGentleCourier(builder.Configuration.GetSection("Courier"), courier => courier
    .UseSqlite()
    .UsePostgres()
    .Receive("deck-count", queue => queue
        .Handle<PassengerBoarded, CountPassenger>()
        .Handle<SailingDeparted, CloseSailing>()));
var host = builder.Build();

await host.Services.GetRequiredService<IStore>().CreateTablesAsync("""
    CREATE TABLE IF NOT EXISTS boarding (event_id TEXT NOT NULL, sailing TEXT NOT NULL);
    CREATE TABLE IF NOT EXISTS deck (sailing TEXT PRIMARY KEY, on_board INTEGER NOT NULL, nearly_full_event TEXT);
    CREATE TABLE IF NOT EXISTS departure (event_id TEXT NOT NULL, sailing TEXT NOT NULL);
    """);
await host.RunAsync();
