using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace GentleCourier.Sqlite;

/// <summary>
/// The tables of a store or a broker, as a list of steps: version n is the first n of them. A step that has shipped
/// never changes; a change is a new step.
/// </summary>
internal sealed class Schema(string part, bool sharesItsFile, params string[] steps)
{
    private const string Versions =
        "CREATE TABLE IF NOT EXISTS courier_schema (part TEXT PRIMARY KEY, version INTEGER NOT NULL) WITHOUT ROWID;";

    public static readonly Schema Store = new("store", sharesItsFile: true, """
        -- Events that are to be relayed, in the order of their commits: written inside the business transaction.
        CREATE TABLE courier_outbox (
            seq           INTEGER PRIMARY KEY,
            event_id      TEXT NOT NULL,
            type          TEXT NOT NULL,
            partition_key TEXT,
            added         INTEGER NOT NULL,               -- times are Unix milliseconds
            event         BLOB NOT NULL                   -- CloudEvents 1.0, JSON format
        );

        -- Events that the broker did not take at the first try: held until they are due, or, with no due time, refused.
        CREATE TABLE courier_outbox_held (
            seq           INTEGER PRIMARY KEY,
            event_id      TEXT NOT NULL,
            type          TEXT NOT NULL,
            partition_key TEXT,
            added         INTEGER NOT NULL,
            event         BLOB NOT NULL,
            attempts      INTEGER NOT NULL,
            due           INTEGER,
            error         TEXT NOT NULL
        );
        CREATE INDEX courier_outbox_held_due ON courier_outbox_held (due);
        CREATE INDEX courier_outbox_held_key ON courier_outbox_held (partition_key) WHERE partition_key IS NOT NULL;

        -- The relay that leads, and how it does. The term grows with every change of the leader.
        CREATE TABLE courier_relay (
            id    INTEGER PRIMARY KEY CHECK (id = 1),
            relay TEXT,
            term  INTEGER NOT NULL,
            until INTEGER NOT NULL,
            error TEXT
        );
        INSERT INTO courier_relay VALUES (1, NULL, 0, 0, NULL);

        -- Events that were handled, by the queue in whose name.
        CREATE TABLE courier_inbox (
            queue    TEXT NOT NULL,
            source   TEXT NOT NULL,
            event_id TEXT NOT NULL,
            handled  INTEGER NOT NULL,
            copies   INTEGER NOT NULL DEFAULT 1,
            PRIMARY KEY (queue, source, event_id)
        ) WITHOUT ROWID;
        """);

    public static readonly Schema Broker = new("broker", sharesItsFile: false, """
        -- The figures are kept with each write, so that reading them costs the same however many events wait.
        CREATE TABLE courier_queue (
            id      INTEGER PRIMARY KEY,
            name    TEXT NOT NULL UNIQUE,
            waiting INTEGER NOT NULL DEFAULT 0,
            in_hand INTEGER NOT NULL DEFAULT 0,
            dead    INTEGER NOT NULL DEFAULT 0
        );

        CREATE TABLE courier_route (
            type  TEXT NOT NULL,
            queue INTEGER NOT NULL REFERENCES courier_queue (id),
            PRIMARY KEY (type, queue)
        ) WITHOUT ROWID;

        -- Grows with every change of a queue or a route; publishers keep routes in memory until it does.
        CREATE TABLE courier_topology (id INTEGER PRIMARY KEY CHECK (id = 1), version INTEGER NOT NULL);
        INSERT INTO courier_topology VALUES (1, 1);

        -- One copy of an event in one queue. It is written once, and deleted when it is settled.
        CREATE TABLE courier_copy (
            id      INTEGER PRIMARY KEY,
            arrived INTEGER NOT NULL,                     -- times are Unix milliseconds
            event   BLOB NOT NULL                         -- CloudEvents 1.0, JSON format
        );

        -- Where a copy that waits stands in its queue. Each copy has a place or a lease, never both.
        CREATE TABLE courier_place (
            queue         INTEGER NOT NULL,
            due           INTEGER NOT NULL,
            copy          INTEGER NOT NULL,
            attempts      INTEGER NOT NULL DEFAULT 0,
            first_attempt INTEGER,
            error         TEXT,
            PRIMARY KEY (queue, due, copy)
        ) WITHOUT ROWID;

        -- A copy that a receiver has in hand. The number is drawn for each hand-over.
        CREATE TABLE courier_lease (
            copy          INTEGER PRIMARY KEY,
            queue         INTEGER NOT NULL,
            number        INTEGER NOT NULL,
            until         INTEGER NOT NULL,
            attempts      INTEGER NOT NULL,
            first_attempt INTEGER NOT NULL,
            worker        TEXT NOT NULL,
            error         TEXT
        );

        CREATE TABLE courier_dead_letter (
            id            INTEGER PRIMARY KEY AUTOINCREMENT,
            queue         INTEGER NOT NULL,
            reason        TEXT NOT NULL,
            exception     TEXT,
            message       TEXT,
            stack         TEXT,
            attempts      INTEGER NOT NULL,
            worker        TEXT NOT NULL,
            arrived       INTEGER NOT NULL,
            first_attempt INTEGER NOT NULL,
            set_aside     INTEGER NOT NULL,
            event         BLOB NOT NULL
        );
        """, """
        -- How many of the latest attempts in a row ended without being settled: their worker was killed or lost its
        -- lease.
        ALTER TABLE courier_place ADD COLUMN abandoned INTEGER NOT NULL DEFAULT 0;
        ALTER TABLE courier_lease ADD COLUMN abandoned INTEGER NOT NULL DEFAULT 0;
        """);

    /// <summary>All of it, for a person to read or a migration tool to run on an empty database.</summary>
    public string Sql =>
        $"PRAGMA journal_mode = WAL;\n\n{Versions}\nINSERT INTO courier_schema VALUES ('{part}', "
        + $"{steps.Length});\n\n{string.Join("\n\n", steps)}\n";

    /// <summary>Checks that the tables are there, in this version.</summary>
    /// <exception cref="CourierException">They are not; the message says what to do.</exception>
    public void Check(SqliteConnection connection, SqliteFile file)
    {
        var version = VersionOf(connection, file);
        if (version < steps.Length)
        {
            var what = version == 0 ? $"{file.DisplayName} is a SQLite database without a {part} of Gentle Courier"
                : $"the {part} in {file.DisplayName} has version {version}, and this program needs {steps.Length}";
            throw new CourierException(
                $"{what}; check the path, or run `courier schema apply {part} --{part} {file.DisplayName}`");
        }
    }

    /// <summary>Makes or upgrades the tables; nothing happens where they are up to date.</summary>
    public void Apply(SqliteConnection connection, SqliteFile file)
    {
        if (VersionOf(connection, file) == steps.Length) return;
        RefuseForeign(connection, file);
        SqliteFile.Execute(connection, "PRAGMA journal_mode = WAL");
        SqliteFile.Execute(connection, "BEGIN IMMEDIATE");
        try
        {
            SqliteFile.Execute(connection, Versions);
            // Another process may have done it while this one waited for the lock.
            foreach (var step in steps.Skip(VersionOf(connection, file))) SqliteFile.Execute(connection, step);
            SqliteFile.Execute(connection, $"INSERT OR REPLACE INTO courier_schema VALUES ('{part}', {steps.Length})");
            FaultPoint.Pass(FaultPoint.SchemaNotCommitted);
            SqliteFile.Execute(connection, "COMMIT");
        }
        catch
        {
            raw.sqlite3_exec(connection.Handle, "ROLLBACK");
            throw;
        }
    }

    private int VersionOf(SqliteConnection connection, SqliteFile file)
    {
        using var exists = new Statement(
            connection, "SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name = 'courier_schema'");
        if (exists.Scalar() == 0) return 0;
        using var read = new Statement(connection, "SELECT version FROM courier_schema WHERE part = ?");
        var version = (int)(read.Bind(1, part).Scalar() ?? 0);
        return version <= steps.Length ? version
            : throw new CourierException(
                $"the {part} in {file.DisplayName} has version {version}, made by a newer Gentle Courier; this one "
                + $"knows {steps.Length}, so update it");
    }

    private void RefuseForeign(SqliteConnection connection, SqliteFile file)
    {
        if (sharesItsFile) return;
        using var foreign = new Statement(connection, """
            SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%'
            AND NOT EXISTS (SELECT 1 FROM sqlite_schema WHERE name = 'courier_schema') LIMIT 1
            """);
        if (!foreign.Step()) return;
        var table = foreign.Text(0);
        foreign.Reset();
        throw new CourierException(
            $"{file.DisplayName} belongs to another application (it has a table '{table}'); give the {part} a file of "
            + "its own");
    }
}
