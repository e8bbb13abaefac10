using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>
/// Makes and checks the tables of a store or a broker. Statements are written for the schema <c>courier</c>.
/// </summary>
internal sealed class Schema(SchemaHistory history)
{
    private const string Namespace = "CREATE SCHEMA IF NOT EXISTS courier;";

    // A table for each part: one may be made by a service's own migrations, and know nothing of the other.
    private readonly string versions =
        $"CREATE TABLE IF NOT EXISTS courier.{history.Part}_version (version int PRIMARY KEY, oldest int NOT NULL, "
        + "release text NOT NULL);";

    /// <summary>All of it, for a person to read or a migration tool to run on a database that has none of it.</summary>
    public string Sql => $"{Namespace}\n{versions}\n{Record(history.Latest)}\n\n{history.Sql}\n";

    /// <summary>The names of its tables.</summary>
    public string[] Tables =>
        [.. history.Sql.Split("CREATE TABLE courier.").Skip(1).Select(made => made[..made.IndexOf(' ')])];

    /// <summary>
    /// A statement with the tables of another schema. The name is an identifier: the address has been checked for that.
    /// </summary>
    public static string In(string schema, string statement) =>
        schema == PostgresAddress.DefaultSchema ? statement : statement
        .Replace("courier.", $"\"{schema}\".", StringComparison.Ordinal)
        .Replace("IF NOT EXISTS courier;", $"IF NOT EXISTS \"{schema}\";", StringComparison.Ordinal);

    /// <summary>Makes sure that the tables are there, in a version that this program may use.</summary>
    /// <param name="server">Where.</param>
    /// <param name="create">
    /// Whether to make or upgrade them. Where they are up to date, no right to make any is needed.
    /// </param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <exception cref="CourierException">They are not there; the message says what to do.</exception>
    public async Task PrepareAsync(PostgresServer server, bool create, CancellationToken cancellationToken)
    {
        await server.CheckWayAsync(cancellationToken).ConfigureAwait(false);
        var found = await FindAsync(server, cancellationToken).ConfigureAwait(false);
        if (history.Missing(found, server.DisplayName).Count == 0) return;
        var without = $"a PostgreSQL database without a {history.Part} of Gentle Courier";
        if (!create) history.Check(found, server.DisplayName, without);
        try
        {
            var connection = await server.OpenAloneAsync(cancellationToken).ConfigureAwait(false);
            await using (connection.ConfigureAwait(false)) await BringUpToDateAsync(
                server, connection, cancellationToken).ConfigureAwait(false);
        }
        catch (Exception e) when (PostgresServer.IsProblem(e))
        {
            throw server.Problem(e, $"make the tables of the {history.Part} in");
        }
    }

    private async Task BringUpToDateAsync(
        PostgresServer server, NpgsqlConnection connection, CancellationToken cancellationToken)
    {
        var transaction = await connection.BeginTransactionAsync(cancellationToken).ConfigureAwait(false);
        await using (transaction.ConfigureAwait(false))
        {
            // One at a time; what another has done meanwhile is not done again.
            await new RoundTrip()
                .Add("SELECT pg_advisory_xact_lock(hashtextextended($1, 614))", static _ => { },
                    Parameter.Of($"schema {server.SchemaName}"))
                .RunAsync(connection, TimeSpan.FromSeconds(60), cancellationToken).ConfigureAwait(false);
            var found = await FindAsync(server, cancellationToken).ConfigureAwait(false);
            if (history.Missing(found, server.DisplayName) is not { Count: > 0 } missing) return;
            // To make a schema is another right than to make tables in one, and is asked for only where there is none.
            var hasNamespace = await ExistsAsync(server, "to_regnamespace", server.SchemaName, cancellationToken)
                .ConfigureAwait(false);
            string[] statements = [hasNamespace ? "" : Namespace, versions, .. missing, Replaced(history.Latest)];
            var command = new NpgsqlCommand(server.Sql(string.Join('\n', statements)), connection, transaction);
            await using (command.ConfigureAwait(false)) await command.ExecuteNonQueryAsync(cancellationToken)
                .ConfigureAwait(false);
            FaultPoint.Pass(FaultPoint.SchemaNotCommitted);
            await transaction.CommitAsync(cancellationToken).ConfigureAwait(false);
        }
    }

    private string Record(FoundSchema made) =>
        $"INSERT INTO courier.{history.Part}_version VALUES ({made.Version}, {made.Oldest}, '{made.Release}');";

    private string Replaced(FoundSchema made) => $"DELETE FROM courier.{history.Part}_version; {Record(made)}";

    private async Task<FoundSchema> FindAsync(PostgresServer server, CancellationToken cancellationToken)
    {
        var found = new FoundSchema(0, 0, "");
        var table = $"\"{server.SchemaName}\".{history.Part}_version";
        if (!await ExistsAsync(server, "to_regclass", table, cancellationToken).ConfigureAwait(false)) return found;

        var read = new RoundTrip().Add(
            server.Sql($"SELECT version, oldest, release FROM courier.{history.Part}_version"),
            row => found = new FoundSchema(row.GetInt32(0), row.GetInt32(1), row.GetString(2)));
        await server.RunAsync("read", read, cancellationToken).ConfigureAwait(false);
        return found;
    }

    private static async Task<bool> ExistsAsync(
        PostgresServer server, string function, string name, CancellationToken cancellationToken)
    {
        var exists = false;
        await server.RunAsync(
            "look into",
                new RoundTrip()
                .Add($"SELECT {function}($1) IS NOT NULL", row => exists = row.GetBoolean(0), Parameter.Of(name)),
                cancellationToken)
            .ConfigureAwait(false);
        return exists;
    }
}
