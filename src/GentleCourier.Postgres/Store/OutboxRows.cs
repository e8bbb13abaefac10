using GentleCourier.Engines;
using GentleCourier.Publishing;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>Rows of an outbox, as they are read. One caller at a time.</summary>
/// <param name="reading">The reading that they come of.</param>
internal sealed class OutboxRows(Reading reading)
{
    /// <summary>So many bytes that a limit of bytes may have ended the reading.</summary>
    public const int Many = Budget.Bytes - Budget.LargestEvent;

    public List<OutboxRow> Rows { get; } = [];

    public long Bytes { get; private set; }

    /// <summary>Takes a fresh one.</summary>
    public void Take(NpgsqlDataReader row) => Take(row.GetInt64(0), row);

    /// <summary>Takes one that is held: those are of another table, and their numbers are negated.</summary>
    public void TakeHeld(NpgsqlDataReader row) => Take(-row.GetInt64(0), row);

    /// <summary>Takes one that waits for an obstacle.</summary>
    public void TakeWaiting(NpgsqlDataReader row) => Take(-row.GetInt64(0), row, waits: true);

    private void Take(long number, NpgsqlDataReader row, bool waits = false)
    {
        var address = row.Text(6);
        var @event = new EncodedEvent(
            row.GetString(1), row.GetString(2), HeldKeys.KeyOf(address, row.Text(3)), row.Bytes(4))
        {
            Address = address, OutboxWait = row.Span(7),
        };
        Rows.Add(new OutboxRow(number, row.GetInt32(5), @event)
        {
            Started = reading.Started, WaitsFor = waits ? HeldObstacle.Of(address, @event.Type) : null,
        });
        Bytes += @event.Json.Length;
    }
}
