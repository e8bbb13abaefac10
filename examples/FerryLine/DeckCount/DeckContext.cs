using GentleCourier;
using Microsoft.EntityFrameworkCore;

namespace FerryLine.DeckCount;

/// <summary>What this service knows, with its outbox and its inbox.</summary>
internal sealed class DeckContext(DbContextOptions<DeckContext> options) : DbContext(options)
{
    public DbSet<Boarding> Boardings => Set<Boarding>();

    public DbSet<Deck> Decks => Set<Deck>();

    public DbSet<Departure> Departures => Set<Departure>();

    protected override void OnModelCreating(ModelBuilder modelBuilder)
    {
        modelBuilder.AddGentleCourier(Database);
        // No key keeps an event from being counted twice: that is the inbox's work, and the ledger would show its
        // failure.
        modelBuilder.Entity<Boarding>(boarding =>
        {
            boarding.ToTable("boarding");
            boarding.Property(b => b.EventId).HasColumnName("event_id");
            boarding.Property(b => b.Sailing).HasColumnName("sailing");
        });
        modelBuilder.Entity<Deck>(deck =>
        {
            deck.ToTable("deck").HasKey(d => d.Sailing);
            deck.Property(d => d.Sailing).HasColumnName("sailing");
            deck.Property(d => d.OnBoard).HasColumnName("on_board");
            deck.Property(d => d.NearlyFullEvent).HasColumnName("nearly_full_event");
        });
        modelBuilder.Entity<Departure>(departure =>
        {
            departure.ToTable("departure");
            departure.Property(d => d.EventId).HasColumnName("event_id");
            departure.Property(d => d.Sailing).HasColumnName("sailing");
        });
    }
}

internal sealed class Boarding
{
    public int Id { get; init; }

    public required string EventId { get; init; }

    public required string Sailing { get; init; }
}

internal sealed class Deck
{
    public required string Sailing { get; init; }

    public int OnBoard { get; init; }

    /// <summary>The event that reported it to be nearly full.</summary>
    public string? NearlyFullEvent { get; init; }
}

internal sealed class Departure
{
    public int Id { get; init; }

    public required string EventId { get; init; }

    public required string Sailing { get; init; }
}
