using Dapper;
using FerryLine.Contracts;
using FerryLine.Harbour;
using FerryLine.Shared;
using GentleCourier;

// Harbour, the gate service. It records what happens at the piers and publishes it, in one transaction; it receives
// nothing.
var builder = WebApplication.CreateBuilder(args);
builder.Services.AddGentleCourier(builder.Configuration.GetSection("Courier"), courier => courier
    .UseSqlite()
    .UsePostgres()
    .CreateTables("""
        CREATE TABLE IF NOT EXISTS tap (
            gate_number TEXT NOT NULL, pier TEXT NOT NULL, card TEXT NOT NULL, sailing TEXT NOT NULL,
            tapped_at TIMESTAMPTZ NOT NULL);
        CREATE TABLE IF NOT EXISTS departure (sailing TEXT PRIMARY KEY, event_id TEXT NOT NULL);
        """));
var app = builder.Build();

app.MapGet("/", () => "Harbour is open");

app.MapPost("/taps", async (Tap tap, IStore store, IOutbox outbox, CancellationToken cancel) =>
{
    await using var connection = await store.OpenConnectionAsync(cancel);
    await using var transaction = await connection.BeginTransactionAsync(cancel);

    await connection.ExecuteAsync(
        "INSERT INTO tap (gate_number, pier, card, sailing, tapped_at) VALUES (@Number, @Pier, @Card, @Sailing, "
        + "@TappedAt)",
        tap with { TappedAt = tap.TappedAt.ToUniversalTime() }, transaction);
    // The gate's own number is the event's id: a flaky gate that sends a tap twice publishes the same event twice.
    await outbox.AddAndCommitAsync(
        transaction, new PassengerBoarded(tap.Pier, tap.Card, tap.Sailing, tap.TappedAt),
        subject: tap.Card, partitionKey: tap.Sailing, id: tap.Number, cancellationToken: cancel);
    return Results.Accepted();
});

app.MapPost("/departures", async (Departure departure, IStore store, IOutbox outbox, CancellationToken cancel) =>
{
    await using var connection = await store.OpenConnectionAsync(cancel);
    await using var transaction = await connection.BeginTransactionAsync(cancel);

    // Told twice of the same departure, it publishes once.
    var id = $"{departure.Sailing}/departed";
    var isNews = await connection.ExecuteAsync(
        "INSERT INTO departure (sailing, event_id) VALUES (@Sailing, @id) ON CONFLICT DO NOTHING",
            new { departure.Sailing, id }, transaction) == 1;
    if (isNews)
    {
        await outbox.AddAsync(
            transaction, new SailingDeparted(departure.Sailing, departure.DepartedAt),
            subject: departure.Sailing, partitionKey: departure.Sailing, id: id, cancellationToken: cancel);
    }

    await transaction.CommitAsync(cancel);
    return Results.Accepted();
});

await app.RunAsync();
