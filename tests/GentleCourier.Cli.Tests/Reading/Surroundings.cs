using System.Data.Common;
using Dapper;
using GentleCourier;
using GentleCourier.ByHand;
using GentleCourier.Testing;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Diagnostics.HealthChecks;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Npgsql;
using OpenTelemetry.Metrics;
using OpenTelemetry.Trace;

namespace Snippets;

/// <summary>What the pieces of code in the documents speak of, and do not show.</summary>
public abstract class Surroundings
{
    protected static readonly WebApplicationBuilder builder = WebApplication.CreateBuilder();
    protected static readonly WebApplication app = null!;
    protected static readonly CourierBuilder courier = null!;
    protected static readonly IOutbox outbox = null!;
    protected static readonly ILaterEvents later = null!;
    protected static readonly DbConnection connection = null!;
    protected static readonly DbTransaction transaction = null!;
    protected static readonly DbContext context = null!;
    protected static readonly Limits limits = null!;
    protected static readonly Tap tap = null!;
    protected static readonly string pier = "", card = "", sailing = "";
    protected static readonly DateTimeOffset at, departs;

    protected static Task CountAsync(DbTransaction transaction, PassengerBoarded boarded) => Task.CompletedTask;

    public sealed record Tap(string Number, string Journey, string Pier, string Card, string Sailing);

    public sealed class Limits
    {
        public int? LimitOf(string sailing) => null;
    }

    public sealed class Tenant
    {
        public string? Name { get; set; }
    }

    [WireType("skerryline.passenger-boarded")]
    public sealed record PassengerBoarded(string Pier, string Card, string Sailing, DateTimeOffset TappedAt = default);

    [WireType("skerryline.sailing-departed")]
    public sealed record SailingDeparted(string Sailing);

    [WireType("skerryline.sailing-reminder")]
    public sealed record SailingReminder(string Sailing, DateTimeOffset Departs);

    [WireType("skerryline.deck-nearly-full")]
    public sealed record DeckNearlyFull(string Sailing, int OnBoard, int Limit);

    [WireType("skerryline.accounts-due")]
    public sealed record AccountsDue;

    public sealed class ChargeFare : Receiver<PassengerBoarded>;

    public sealed class CountPassenger : Receiver<PassengerBoarded>;

    public sealed class CloseSailing : Receiver<SailingDeparted>;

    public sealed class CloseAccounts : Receiver<AccountsDue>;

    public sealed class CountPassengers : IBatchReceiver<PassengerBoarded>
    {
        public Task HandleAsync(DeliveryBatch<PassengerBoarded> batch, CancellationToken cancellationToken) =>
            Task.CompletedTask;
    }

    public sealed class HarbourContext(DbContextOptions<HarbourContext> options) : DbContext(options);

    public abstract class Receiver<T> : IReceiver<T> where T : class
    {
        public Task HandleAsync(Delivery<T> delivery, CancellationToken cancellationToken) => Task.CompletedTask;
    }
}
