using FerryLine.Contracts;
using FerryLine.Notices;
using FerryLine.Shared;
using GentleCourier;

// Notices, a worker with slow, uneven work: composes what is shown on the piers. Where the demo shows a slip, it is
// told a wrong queue.
var builder = Host.CreateApplicationBuilder(args);
builder.AddTraces("Notices");
var queueName = builder.Configuration["FerryLine:Queue"] ?? "notices";
builder.Services.AddGentleCourier(builder.Configuration, courier => courier
    .UseSqlite()
    .UsePostgres()
    .UseAmqp()
    .CreateTables(
        "CREATE TABLE IF NOT EXISTS notice (event_id TEXT NOT NULL, sailing TEXT NOT NULL, text TEXT NOT NULL);")
    .Receive(queueName, queue =>
    {
        (queue.Options.Prefetch, queue.Options.Parallel) = (2, 2);
        queue.Handle<SailingDeparted, AnnounceDeparture>().Handle<DeckNearlyFull, AnnounceCrowd>()
            .Handle<SailingReminder, AnnounceSailing>();
    }));
await builder.Build().RunAsync();
