using System.Diagnostics;
using System.Runtime.CompilerServices;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>Looks a database over.</summary>
internal static class Examination
{
    private static readonly TimeSpan Apart = TimeSpan.FromSeconds(2);

    public static async IAsyncEnumerable<Check> OfAsync(
        PostgresServer server, Schema schema, [EnumeratorCancellation] CancellationToken cancellationToken)
    {
        NpgsqlConnection? connection = null;
        try
        {
            yield return await TryAsync("connection", async () =>
            {
                connection = await server.OpenAloneAsync(cancellationToken).ConfigureAwait(false);
                return Check.Good("connection", $"{server.DisplayName} answers");
            }).ConfigureAwait(false);
            if (connection is not { } open) yield break;
            var facts = new Facts();
            yield return await TryAsync("server", () => facts.ReadAsync(open, cancellationToken))
                .ConfigureAwait(false);
            if (facts.Version is null) yield break;
            yield return facts.Encryption;
            yield return facts.Pooler;
            yield return facts.Clock;
            var tables = await TryAsync("tables", async () =>
            {
                await schema.PrepareAsync(server, create: false, cancellationToken).ConfigureAwait(false);
                return Check.Good("tables", $"are up to date, in schema {server.SchemaName}");
            }).ConfigureAwait(false);
            yield return tables;
            if (tables.Result != CheckResult.Good) yield break;
            yield return await TryAsync("rights", () => RightsAsync(open, server, schema.Tables, cancellationToken))
                .ConfigureAwait(false);
        }
        finally
        {
            if (connection is not null) await connection.DisposeAsync().ConfigureAwait(false);
        }

        async Task<Check> TryAsync(string name, Func<Task<Check>> look)
        {
            try
            {
                return await look().ConfigureAwait(false);
            }
            catch (CourierException e)
            {
                return Check.Wrong(name, e.Message);
            }
            catch (Exception e) when (PostgresServer.IsProblem(e))
            {
                return Check.Wrong(name, server.Problem(e, name == "connection" ? "reach" : "look into").Message);
            }
        }
    }

    // In a schema that store and broker share, the one need not touch the other's tables.
    private static async Task<Check> RightsAsync(NpgsqlConnection connection, PostgresServer server, string[] tables,
        CancellationToken cancellationToken)
    {
        var lacking = new List<string>();
        await new RoundTrip().Add(
            """
            SELECT c.relname, p.name FROM pg_class c CROSS JOIN (VALUES ('SELECT'), ('INSERT'), ('UPDATE'), ('DELETE'))
                AS p (name)
            WHERE c.relnamespace = to_regnamespace($1) AND c.relname = ANY ($2)
                AND NOT has_table_privilege(c.oid, p.name)
            ORDER BY 1, 2
            """,
            row => lacking.Add($"{row.GetString(1)} on {row.GetString(0)}"), Parameter.Of(server.SchemaName),
            Parameter.Of(tables))
            .RunAsync(connection, PostgresServer.Limit, cancellationToken).ConfigureAwait(false);
        return lacking.Count == 0 ? Check.Good("rights", "this user may read and write all tables")
            : Check.Wrong("rights", $"this user lacks {string.Join(", ", lacking.Take(3))}"
                + (lacking.Count > 3 ? $" and {lacking.Count - 3} more" : "")
                + $"; their owner can say: GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA "
                + $"{server.SchemaName} TO {server.UserName ?? "…"}");
    }

    /// <summary>What a server says of itself and of the connection.</summary>
    private sealed class Facts
    {
        public string? Version { get; private set; }

        public Check Encryption { get; private set; }

        public Check Pooler { get; private set; }

        public Check Clock { get; private set; }

        public async Task<Check> ReadAsync(NpgsqlConnection connection, CancellationToken cancellationToken)
        {
            var (isStandby, isReadOnly, size) = (false, false, "");
            var (process, isEncrypted, isLocal, at) = (0, false, false, default(DateTimeOffset));
            var (sent, began) = (DateTimeOffset.UtcNow, Stopwatch.GetTimestamp());
            await new RoundTrip().Add(
                """
                SELECT clock_timestamp(), current_setting('server_version'), pg_backend_pid(), pg_is_in_recovery(),
                    current_setting('default_transaction_read_only')::bool,
                    pg_size_pretty(pg_database_size(current_database())),
                    coalesce((SELECT ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()), false),
                    inet_client_addr() IS NULL OR inet_client_addr() << '127.0.0.0/8' OR inet_client_addr() = '::1'
                """,
                row =>
                {
                    (at, Version, process) = (row.Time(0), row.GetString(1), row.GetInt32(2));
                    (isStandby, isReadOnly, size) = (row.GetBoolean(3), row.GetBoolean(4), row.GetString(5));
                    (isEncrypted, isLocal) = (row.GetBoolean(6), row.GetBoolean(7));
                }).RunAsync(connection, PostgresServer.Limit, cancellationToken).ConfigureAwait(false);
            Clock = OfClock(at - (sent + (Stopwatch.GetElapsedTime(began) / 2)));
            Encryption = isEncrypted ? Check.Good("encryption", "the connection is encrypted")
                : isLocal ? Check.Good("encryption", "none, and none is needed: the server is on this host")
                : Check.Wrong("encryption", "the connection is not encrypted, and leaves this host; add "
                    + "'?ssl mode=VerifyFull' to the address, and see that the server has ssl = on");
            // What the client was told at the start is the process that serves it, unless somebody stands between.
            Pooler = process == connection.ProcessID ? Check.Good("pooler", "none stands between")
                : Check.Wrong("pooler", "one stands between, which may give each transaction another session: "
                    + "notifications and prepared statements need one of their own; name the server itself in the "
                    + "address, or a pool in session mode");
            var version = $"PostgreSQL {Version}, database of {size}";
            return isStandby ? Check.Wrong("server", $"{version}: it is a standby; name the primary")
                : isReadOnly ? Check.Wrong("server", $"{version}: default_transaction_read_only is on for this user")
                : Check.Good("server", version);
        }

        private static Check OfClock(TimeSpan ahead)
        {
            var said = FormattableString.Invariant($"{ahead.Duration().TotalSeconds:0.0} s")
                + (ahead > TimeSpan.Zero ? " ahead of this host's" : " behind this host's");
            return ahead.Duration() < Apart ? Check.Good("clock", "agrees with this host's to within two seconds")
                : Check.Wrong("clock", $"the server's is {said}; have both hosts keep time (NTP)");
        }
    }
}
