using Dapper;
using FerryLine.Contracts;
using FerryLine.Harbour;
using FerryLine.Shared;
using GentleCourier;
using OpenTelemetry.Trace;

// Harbour, the gate service. It records what happens at the piers and publishes it, in one transaction; it receives
// nothing.
var builder = WebApplication.CreateBuilder(args);
builder.AddTraces("Harbour", traces => traces.AddAspNetCoreInstrumentation());
builder.Services.AddGentleCourier(builder.Configuration, courier => courier
    .UseSqlite()
    .UsePostgres()
    .UseAmqp()
    .CreateTables("""
        CREATE TABLE IF NOT EXISTS tap (
            gate_number TEXT NOT NULL, pier TEXT NOT NULL, card TEXT NOT NULL, sailing TEXT NOT NULL,
            tapped_at TIMESTAMPTZ NOT NULL);
        CREATE TABLE IF NOT EXISTS departure (sailing TEXT PRIMARY KEY, event_id TEXT NOT NULL);
        CREATE TABLE IF NOT EXISTS sailing (
            name TEXT PRIMARY KEY, departs_at TIMESTAMPTZ NOT NULL, state TEXT NOT NULL, reminder TEXT NOT NULL);
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
        new() { Subject = tap.Card, PartitionKey = tap.Sailing, Id = tap.Number }, cancel);
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
            new() { Subject = departure.Sailing, PartitionKey = departure.Sailing, Id = id }, cancel);
    }

    await transaction.CommitAsync(cancel);
    return Results.Accepted();
});

// The reminder is published an hour before the sailing, if that is not cancelled until then.
app.MapPost("/sailings", async (PlannedSailing planned, IStore store, IOutbox outbox, CancellationToken cancel) =>
{
    await using var connection = await store.OpenConnectionAsync(cancel);
    await using var transaction = await connection.BeginTransactionAsync(cancel);

    var (id, departs) = ($"{planned.Sailing}/reminder", planned.DepartsAt.ToUniversalTime());
    var isNews = await connection.ExecuteAsync(
        "INSERT INTO sailing (name, departs_at, state, reminder) VALUES (@Sailing, @departs, 'planned', @id) "
        + "ON CONFLICT DO NOTHING", new { planned.Sailing, departs, id }, transaction) == 1;
    if (isNews)
    {
        await outbox.AddAsync(
            transaction, new SailingReminder(planned.Sailing, departs),
            new() { Subject = planned.Sailing, Id = id, Due = DueTime.At(departs.AddHours(-1)) }, cancel);
    }

    await transaction.CommitAsync(cancel);
    return Results.Accepted();
});

app.MapPost("/cancellations", async (
    Cancellation cancellation, IStore store, ILaterEvents later, CancellationToken cancel) =>
{
    await using var connection = await store.OpenConnectionAsync(cancel);
    await using var transaction = await connection.BeginTransactionAsync(cancel);

    var id = $"{cancellation.Sailing}/reminder";
    // Where it is too late the reminder is out, and stands in the account as one that was.
    if (await later.CancelAsync(new LaterFilter { Id = id }, transaction, cancel) > 0)
    {
        await connection.ExecuteAsync(
            "UPDATE sailing SET state = 'cancelled' WHERE name = @Sailing", cancellation, transaction);
    }

    await transaction.CommitAsync(cancel);
    return Results.Accepted();
});

await app.RunAsync();
