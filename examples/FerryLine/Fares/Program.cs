using FerryLine.Contracts;
using FerryLine.Fares;
using FerryLine.Shared;
using GentleCourier;

// Fares, a worker: charges the card of each passenger who boarded, up to a cap a day, and closes
// the accounts at its end.
var builder = Host.CreateApplicationBuilder(args);
builder.AddTraces("Fares");
builder.Services.AddSingleton(PriceList.Read(builder.Configuration["FerryLine:Data"]!));
builder.Services.AddGentleCourier(builder.Configuration, courier => courier
    .UseSqlite()
    .UsePostgres()
    .UseAmqp()
    // No key keeps an event from being charged twice: that is the inbox's work, and the ledger would show its failure.
    .CreateTables("""
        CREATE TABLE IF NOT EXISTS charge (event_id TEXT NOT NULL, card TEXT NOT NULL, cents INTEGER NOT NULL);
        CREATE TABLE IF NOT EXISTS card (number TEXT PRIMARY KEY);
        CREATE INDEX IF NOT EXISTS charge_by_card ON charge (card);
        CREATE TABLE IF NOT EXISTS closing (event_id TEXT NOT NULL, closed_at TIMESTAMPTZ NOT NULL, cents INTEGER);
        """)
    .Schedule("close-accounts", new AccountsDue(), schedule => schedule.Cron = "0 23 * * *")
    .Receive("fares", queue => queue.Handle<PassengerBoarded, ChargeFare>().Handle<AccountsDue, CloseAccounts>()));
await builder.Build().RunAsync();
