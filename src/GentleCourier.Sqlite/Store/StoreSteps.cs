using GentleCourier.Engines;

namespace GentleCourier.Sqlite;

/// <summary>
/// The steps of a store's tables in a file, of which models of EF Core are made, too. Times are Unix milliseconds.
/// </summary>
internal static class StoreSteps
{
    public static readonly SchemaHistory History = new SchemaHistory("store",
        new SchemaStep("0.1.0", IsAdditive: false, """
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
            error         TEXT NOT NULL,
            address       TEXT,                           -- where it goes alone; then it is part of the key, too
            waits_for     TEXT                            -- the obstacle that it waits for: not due itself
        );
        CREATE INDEX courier_outbox_held_due ON courier_outbox_held (due)
            WHERE partition_key IS NULL AND waits_for IS NULL;
        CREATE INDEX courier_outbox_held_waiting ON courier_outbox_held (waits_for, seq) WHERE waits_for IS NOT NULL;
        CREATE INDEX courier_outbox_held_behind ON courier_outbox_held (partition_key, seq)
            WHERE partition_key IS NOT NULL AND due IS NOT NULL;

        -- Partition keys with held events: those are due together, and only the oldest is tried until it has gone.
        CREATE TABLE courier_held_key (
            partition_key TEXT PRIMARY KEY,
            due           INTEGER,                        -- none where the oldest waits for an obstacle
            flows         INTEGER NOT NULL
        ) WITHOUT ROWID;
        CREATE INDEX courier_held_key_due ON courier_held_key (due) WHERE due IS NOT NULL;

        -- What is in the way: a type without a route, an address that takes nothing. The oldest event that waits for
        -- one is tried when it is due. Once that has gone, all others may leave.
        CREATE TABLE courier_held_obstacle (
            waits_for TEXT PRIMARY KEY,
            due       INTEGER NOT NULL,
            freed     INTEGER NOT NULL
        ) WITHOUT ROWID;

        -- Events that wait until they are due, and move into the outbox then.
        -- Numbers never come again: by its own, an event is not taken for one that was added in the place of another.
        CREATE TABLE courier_outbox_later (
            seq           INTEGER PRIMARY KEY AUTOINCREMENT,
            event_id      TEXT NOT NULL,
            type          TEXT NOT NULL,
            partition_key TEXT,
            added         INTEGER NOT NULL,
            due           INTEGER NOT NULL,
            by_clock      INTEGER NOT NULL,               -- whether that is by the clock, which can be set, or a delay
            event         BLOB NOT NULL
        );
        CREATE INDEX courier_outbox_later_due ON courier_outbox_later (due) WHERE by_clock = 0;
        CREATE INDEX courier_outbox_later_clock ON courier_outbox_later (due) WHERE by_clock = 1;
        CREATE INDEX courier_outbox_later_id ON courier_outbox_later (event_id);
        CREATE INDEX courier_outbox_later_key ON courier_outbox_later (partition_key) WHERE partition_key IS NOT NULL;

        -- Schedules of recurring events. The version grows with every change of one.
        CREATE TABLE courier_schedule (
            name          TEXT PRIMARY KEY,
            version       INTEGER NOT NULL,
            type          TEXT NOT NULL,
            template      BLOB NOT NULL,                  -- an event, but for id and time
            rule          TEXT NOT NULL,                  -- when it fires, as JSON
            declared_rule TEXT NOT NULL,                  -- the same as it was last declared
            declaration   TEXT NOT NULL,                  -- what identifies all that was last declared
            next          INTEGER,                        -- the time of the next firing
            due           INTEGER,                        -- when it leaves
            fired         INTEGER,
            paused        INTEGER,
            changed       INTEGER
        ) WITHOUT ROWID;

        -- Which declarations of a schedule processes have made, and when one that makes it was last there.
        CREATE TABLE courier_declaration (
            name        TEXT NOT NULL,
            declaration TEXT NOT NULL,
            seen        INTEGER NOT NULL,
            PRIMARY KEY (name, declaration)
        ) WITHOUT ROWID;

        -- The relay that leads, and how it does. The term grows with every change of the leader.
        CREATE TABLE courier_relay (
            id    INTEGER PRIMARY KEY CHECK (id = 1),
            relay TEXT,
            term  INTEGER NOT NULL,
            until INTEGER NOT NULL,
            error TEXT,
            identity TEXT                                 -- which store this is: drawn by the first leader
        );
        INSERT INTO courier_relay (id, term, until) VALUES (1, 0, 0);

        -- That somebody has paused the relay by hand.
        CREATE TABLE courier_relay_pause (
            id    INTEGER PRIMARY KEY CHECK (id = 1),
            began INTEGER NOT NULL,
            until INTEGER,                                -- null: until it is resumed
            who   TEXT NOT NULL,
            why   TEXT
        );

        -- Where the relay routes events for a broker that does not know it itself: so tools know those queues, too.
        CREATE TABLE courier_relay_route (
            type  TEXT NOT NULL,
            queue TEXT NOT NULL,
            PRIMARY KEY (type, queue)
        ) WITHOUT ROWID;

        -- The last publish that each broker has confirmed to this store, by the broker's generation.
        CREATE TABLE courier_confirmed (
            generation TEXT PRIMARY KEY,
            term       INTEGER NOT NULL,
            number     INTEGER NOT NULL,
            address    TEXT NOT NULL                      -- where that broker was
        ) WITHOUT ROWID;

        -- Events that were handled. There is a row for each, so every byte counts, and what is rare is null. An id that
        -- is a UUID is kept as its 16 bytes, any other as the text that it is.
        CREATE TABLE courier_inbox (
            origin   INTEGER NOT NULL,                    -- in whose name, and whose: see courier_inbox_source
            id       BLOB NOT NULL,
            handled  INTEGER NOT NULL,
            hash     INTEGER,                             -- of its type and data; unknown, if null
            copies   INTEGER,                             -- how many came, if more than one
            other    INTEGER,                             -- of a copy that had other data, the last one
            other_at INTEGER,                             -- and when that came
            PRIMARY KEY (origin, id)
        ) WITHOUT ROWID;
        CREATE INDEX courier_inbox_other ON courier_inbox (other_at) WHERE other IS NOT NULL;

        -- The names behind those numbers, which are a hash of them: queues and the sources of their events.
        CREATE TABLE courier_inbox_source (
            origin INTEGER PRIMARY KEY,
            queue  TEXT NOT NULL,
            source TEXT NOT NULL,
            seen   INTEGER NOT NULL                       -- when it was in use, to an hour
        );

        -- Who clears away what, until when, and when it was last done. What was handled before a time may be forgotten.
        CREATE TABLE courier_store_chore (
            chore  TEXT PRIMARY KEY,
            keeper TEXT,
            until  INTEGER NOT NULL,
            done   INTEGER,
            before INTEGER
        ) WITHOUT ROWID;

        -- When the host was started, by which the times here are reckoned, whatever clocks say. What is named by the
        -- clock (schedules, and events for a time) goes by one that the relays have agreed on: how far that is ahead.
        CREATE TABLE courier_store_clock (
            id      INTEGER PRIMARY KEY CHECK (id = 1),
            boot    TEXT NOT NULL,
            started INTEGER NOT NULL,
            ahead   INTEGER NOT NULL,
            least   INTEGER,                              -- what it was before the host was started
            agreed  INTEGER NOT NULL DEFAULT 0,           -- 0: not yet; 1: by relays; 2: by hand
            doubted INTEGER                               -- since when no majority of the clocks agrees
        );

        -- How far the clock of each relay is ahead, and until when that is believed.
        CREATE TABLE courier_relay_clock (
            relay TEXT PRIMARY KEY,
            ahead INTEGER NOT NULL,
            moved INTEGER NOT NULL,                       -- whether it was set away from what had been agreed
            until INTEGER NOT NULL
        ) WITHOUT ROWID;
        """));
}
