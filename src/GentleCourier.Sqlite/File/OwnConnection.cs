using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>
/// A connection that only the library uses. It keeps the statements that are run on it, since to parse one takes longer
/// than most take to run. Not thread-safe.
/// </summary>
internal sealed class OwnConnection(string settings) : SqliteConnection(settings)
{
    // Statements are written here, and are few; only lists of values of many lengths could make them many.
    private const int MostKept = 100;

    private readonly Dictionary<string, Statement> kept = new(StringComparer.Ordinal);

    /// <summary>A statement for the one who asks, until it is disposed.</summary>
    public Statement Statement(string sql)
    {
        if (kept.Remove(sql, out var known)) return known;
        return new Statement(this, sql, this);
    }

    /// <summary>Takes back what nobody uses any more; false where it is not kept.</summary>
    public bool Keep(string sql, Statement statement) => kept.Count < MostKept && kept.TryAdd(sql, statement);

    /// <inheritdoc/>
    protected override void Dispose(bool disposing)
    {
        if (disposing)
        {
            foreach (var statement in kept.Values) statement.Close();
            kept.Clear();
        }
        base.Dispose(disposing);
    }
}
