using GentleCourier.Engines;

namespace GentleCourier.Sqlite;

/// <summary>
/// What a store remembers of the brokers that have confirmed something to it; one caller at a time. A term that is over
/// changes nothing.
/// </summary>
internal sealed class ConfirmedStatements(Prepared all)
{
    private readonly Statement identify = all.Add("""
        UPDATE courier_relay SET identity = coalesce(identity, ?2) WHERE term = ?1 AND relay IS NOT NULL
        RETURNING identity
        """);
    private readonly Statement confirmed = all.Add(
        "SELECT generation, address, term, number FROM courier_confirmed");
    private readonly Statement confirm = all.Add(
        "INSERT OR REPLACE INTO courier_confirmed (generation, address, term, number) VALUES (?, ?, ?, ?)");
    private readonly Statement forgetAll = all.Add("DELETE FROM courier_confirmed");
    private readonly Statement raise = all.Add("""
        UPDATE courier_relay SET term = max(?1, ?2) + 1 WHERE term = ?1 AND relay IS NOT NULL RETURNING term
        """);
    private readonly Statement endTerm = all.Add(
        "UPDATE courier_relay SET relay = NULL, error = NULL, identity = iif(?, NULL, identity)");

    public StoreMemory? Read(long term)
    {
        string? identity = null;
        if (identify.Bind(1, term).Bind(2, Guid.NewGuid().ToString("N")).Step()) identity = identify.Text(0);
        identify.Reset();
        if (identity is null) return null;
        var last = new List<Confirmed>();
        while (confirmed.Step())
            last.Add(new(confirmed.Text(0)!, confirmed.Text(1)!, new(confirmed.Int64(2), confirmed.Int64(3))));
        return new(identity, last);
    }

    public void Confirm(Confirmation confirmation)
    {
        var (generation, address, last) = confirmation.Last;
        confirm.Bind(1, generation).Bind(2, address).Bind(3, last.Term).Bind(4, last.Number).Run();
    }

    public long? RaiseTerm(long term, long above) => raise.Bind(1, term).Bind(2, above).Scalar();

    public int Accept(bool asNewStore)
    {
        forgetAll.Run();
        return endTerm.Bind(1, asNewStore ? 1 : 0).Run();
    }
}
