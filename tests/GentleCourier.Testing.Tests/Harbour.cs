using System.Collections.Concurrent;
using Dapper;

namespace GentleCourier.Testing.Tests;

[WireType("skerryline.passenger-boarded")]
public sealed record PassengerBoarded(string Card, int Cents);

[WireType("skerryline.card-charged")]
public sealed record CardCharged(string Card, int Cents);

[WireType("skerryline.accounts-due")]
public sealed record AccountsDue;

/// <summary>What a test has its receivers do besides.</summary>
public sealed class Script
{
    public ConcurrentQueue<string> Seen { get; } = new();

    public Func<Delivery<PassengerBoarded>, CancellationToken, Task>? Before { get; set; }
}

/// <summary>Charges a card, in the delivery's transaction, and says so.</summary>
public sealed class Charge(IOutbox outbox, Script script) : IReceiver<PassengerBoarded>
{
    public async Task HandleAsync(Delivery<PassengerBoarded> delivery, CancellationToken cancellationToken)
    {
        if (script.Before is { } before) await before(delivery, cancellationToken);
        var transaction = await delivery.BeginAsync(cancellationToken);
        var (card, cents) = delivery.Data;
        await transaction.Connection!.ExecuteAsync(
            "INSERT INTO charge (card, cents) VALUES (@card, @cents)", new { card, cents }, transaction);
        await outbox.AddAsync(
            transaction, delivery.Data is { Cents: > 0 } ? new CardCharged(card, cents) : new CardCharged(card, 0),
            new EventOptions { Subject = card, PartitionKey = card }, cancellationToken);
    }
}

/// <summary>The same, without a transaction: what must not be done.</summary>
public sealed class ChargeCarelessly(IStore store) : IReceiver<PassengerBoarded>
{
    public async Task HandleAsync(Delivery<PassengerBoarded> delivery, CancellationToken cancellationToken)
    {
        await using var connection = await store.OpenConnectionAsync(cancellationToken);
        await connection.ExecuteAsync(
            "INSERT INTO charge (card, cents) VALUES (@Card, @Cents)", new { delivery.Data.Card, delivery.Data.Cents });
    }
}

public sealed class Close(Script script) : IReceiver<AccountsDue>
{
    public Task HandleAsync(Delivery<AccountsDue> delivery, CancellationToken cancellationToken)
    {
        script.Seen.Enqueue(delivery.Event.Id);
        return Task.CompletedTask;
    }
}

public sealed class ChargeTogether(Script script) : IBatchReceiver<PassengerBoarded>
{
    public async Task HandleAsync(DeliveryBatch<PassengerBoarded> batch, CancellationToken cancellationToken)
    {
        script.Seen.Enqueue($"{batch.Count}");
        var transaction = await batch.BeginAsync(cancellationToken);
        foreach (var one in batch)
        {
            if (one.Data.Cents < 0) one.Fail(new RejectException("nobody is paid for going on board"));
            else
                await transaction.Connection!.ExecuteAsync(
                    "INSERT INTO charge (card, cents) VALUES (@Card, @Cents)", one.Data, transaction);
        }
    }
}

/// <summary>Services as their programs register them.</summary>
internal static class Services
{
    public const string Tables = "CREATE TABLE IF NOT EXISTS charge (card TEXT, cents INTEGER)";

    public static void Harbour(HostApplicationBuilder builder) =>
        builder.Services.AddGentleCourier(builder.Configuration, courier => courier.UseSqlite().UsePostgres());

    public static Action<HostApplicationBuilder> Fares(
        Script? script = null, Action<QueueBinding>? queue = null, Action<CourierBuilder>? more = null) =>
        builder =>
        {
            builder.Services.AddSingleton(script ?? new Script());
            builder.Services.AddGentleCourier(builder.Configuration, courier =>
            {
                courier.UseSqlite().UsePostgres().PrepareStore(MakeTablesAsync).Receive("fares", q =>
                {
                    if (queue is null) q.Handle<PassengerBoarded, Charge>();
                    queue?.Invoke(q);
                });
                more?.Invoke(courier);
            });
        };

    public static async Task MakeTablesAsync(IStore store, CancellationToken cancel)
    {
        await using var connection = await store.OpenConnectionAsync(cancel);
        await connection.ExecuteAsync(Tables);
    }

    public static async Task<string> BoardAsync(
        this TrialService harbour, string card, int cents = 250, EventOptions? options = null) =>
        await harbour.Services.GetRequiredService<IOutbox>().AddAloneAsync(new PassengerBoarded(card, cents), options);

    public static async Task<List<(string Card, int Cents)>> ChargesAsync(this IServiceProvider services)
    {
        await using var connection = await services.GetRequiredService<IStore>().OpenConnectionAsync();
        return [.. await connection.QueryAsync<(string, int)>("SELECT card, cents FROM charge ORDER BY card, cents")];
    }
}
