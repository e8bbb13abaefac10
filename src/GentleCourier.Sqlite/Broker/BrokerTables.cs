using GentleCourier.Engines;

namespace GentleCourier.Sqlite;

/// <summary>The tables of a broker. Times are Unix milliseconds.</summary>
internal static class BrokerTables
{
    public static readonly Schema Schema = new(sharesItsFile: false, new SchemaHistory("broker",
        new SchemaStep("0.1.0", IsAdditive: false, """
        -- The figures are kept with each write, so that reading them costs the same however many events wait.
        CREATE TABLE courier_queue (
            id      INTEGER PRIMARY KEY,
            name    TEXT NOT NULL UNIQUE,
            waiting INTEGER NOT NULL DEFAULT 0,
            in_hand INTEGER NOT NULL DEFAULT 0,
            dead    INTEGER NOT NULL DEFAULT 0,
            is_paused    INTEGER NOT NULL DEFAULT 0,      -- by hand: nothing is handed over
            paused_until INTEGER,                         -- null: until it is resumed
            pause        INTEGER NOT NULL DEFAULT 0       -- the number of the latest pause
        );

        -- Each pause of a queue, for as long as events may have been tried before it: time in it does not count.
        CREATE TABLE courier_pause (
            queue  INTEGER NOT NULL REFERENCES courier_queue (id),
            number INTEGER NOT NULL,
            began  INTEGER NOT NULL,
            ended  INTEGER,                               -- or will, by itself
            who    TEXT NOT NULL,
            why    TEXT,
            PRIMARY KEY (queue, number)
        ) WITHOUT ROWID;

        -- What workers are to do by hand: receive otherwise than their settings say, or, without settings, take no
        -- more.
        CREATE TABLE courier_instruction (
            queue    TEXT NOT NULL,                       -- empty: all
            worker   TEXT NOT NULL,                       -- empty: all
            settings TEXT,                                -- JSON
            began    INTEGER NOT NULL,
            until    INTEGER,
            who      TEXT NOT NULL,
            why      TEXT,
            PRIMARY KEY (queue, worker)
        ) WITHOUT ROWID;

        CREATE TABLE courier_route (
            type  TEXT NOT NULL,
            queue INTEGER NOT NULL REFERENCES courier_queue (id),
            PRIMARY KEY (type, queue)
        ) WITHOUT ROWID;

        -- Grows with every change of a queue or a route; publishers keep routes in memory until it does.
        CREATE TABLE courier_topology (
            id      INTEGER PRIMARY KEY CHECK (id = 1),
            version INTEGER NOT NULL,
            by_hand INTEGER NOT NULL DEFAULT 0            -- grows with every pause and instruction
        );
        INSERT INTO courier_topology (id, version) VALUES (1, 1);

        -- One copy of an event in one queue. It is written once, and deleted when it is settled.
        CREATE TABLE courier_copy (
            id      INTEGER PRIMARY KEY,
            arrived INTEGER NOT NULL,                     -- times are Unix milliseconds
            waited  INTEGER,                              -- in an outbox before; null: less than a second
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
        """),
        new SchemaStep("0.1.0", IsAdditive: true, """
        -- How many of the latest attempts in a row ended without being settled: their worker was killed or lost its
        -- lease.
        ALTER TABLE courier_place ADD COLUMN abandoned INTEGER NOT NULL DEFAULT 0;
        ALTER TABLE courier_lease ADD COLUMN abandoned INTEGER NOT NULL DEFAULT 0;

        -- How many attempts failed and did not count.
        ALTER TABLE courier_place ADD COLUMN uncounted INTEGER NOT NULL DEFAULT 0;
        ALTER TABLE courier_lease ADD COLUMN uncounted INTEGER NOT NULL DEFAULT 0;

        -- Queues in key order hand over the events of one key one at a time; every copy in them has a key. Where one
        -- was put in key order while it had places without any, those get theirs little by little, from here on.
        ALTER TABLE courier_queue ADD COLUMN in_key_order INTEGER NOT NULL DEFAULT 0;
        ALTER TABLE courier_queue ADD COLUMN keyless_from INTEGER;
        ALTER TABLE courier_place ADD COLUMN key TEXT;
        ALTER TABLE courier_lease ADD COLUMN key TEXT;
        CREATE INDEX courier_place_key ON courier_place (queue, key, copy) WHERE key IS NOT NULL;
        CREATE INDEX courier_lease_key ON courier_lease (queue, key) WHERE key IS NOT NULL;

        -- Of each key of which nothing is in hand the first copy that waits: it may be handed over when it is due, and
        -- what is due is at 0, where the oldest comes first. Whoever changes places or leases need not know of it.
        CREATE TABLE courier_head (
            queue INTEGER NOT NULL,
            at    INTEGER NOT NULL,
            copy  INTEGER NOT NULL,
            key   TEXT NOT NULL,
            PRIMARY KEY (queue, at, copy)
        ) WITHOUT ROWID;
        CREATE UNIQUE INDEX courier_head_key ON courier_head (queue, key);
        CREATE TRIGGER courier_place_comes AFTER INSERT ON courier_place
        WHEN NEW.key IS NOT NULL
            AND NOT EXISTS (SELECT 1 FROM courier_lease WHERE queue = NEW.queue AND key = NEW.key)
        BEGIN
            DELETE FROM courier_head WHERE queue = NEW.queue AND key = NEW.key AND copy > NEW.copy;
            INSERT OR IGNORE INTO courier_head (queue, at, copy, key)
            VALUES (
                NEW.queue, iif(NEW.first_attempt IS NULL AND NEW.error IS NULL, 0, NEW.due), NEW.copy, NEW.key);
        END;
        CREATE TRIGGER courier_place_gets_key AFTER UPDATE OF key ON courier_place WHEN OLD.key IS NULL BEGIN
            INSERT INTO courier_head (queue, at, copy, key)
            VALUES (NEW.queue, iif(NEW.first_attempt IS NULL AND NEW.error IS NULL, 0, NEW.due), NEW.copy, NEW.key);
        END;
        CREATE TRIGGER courier_place_goes AFTER DELETE ON courier_place
        WHEN OLD.key IS NOT NULL
            AND NOT EXISTS (SELECT 1 FROM courier_lease WHERE queue = OLD.queue AND key = OLD.key)
        BEGIN
            DELETE FROM courier_head WHERE queue = OLD.queue AND key = OLD.key AND copy = OLD.copy;
            INSERT INTO courier_head (queue, at, copy, key)
            SELECT queue, iif(first_attempt IS NULL AND error IS NULL, 0, due), copy, key FROM (
                SELECT * FROM courier_place WHERE queue = OLD.queue AND key = OLD.key ORDER BY copy LIMIT 1)
            WHERE true ON CONFLICT DO NOTHING;
        END;
        CREATE TRIGGER courier_lease_comes AFTER INSERT ON courier_lease WHEN NEW.key IS NOT NULL BEGIN
            DELETE FROM courier_head WHERE queue = NEW.queue AND key = NEW.key;
        END;
        CREATE TRIGGER courier_lease_goes AFTER DELETE ON courier_lease
        WHEN OLD.key IS NOT NULL
            AND NOT EXISTS (SELECT 1 FROM courier_lease WHERE queue = OLD.queue AND key = OLD.key)
        BEGIN
            INSERT INTO courier_head (queue, at, copy, key)
            SELECT queue, iif(first_attempt IS NULL AND error IS NULL, 0, due), copy, key FROM (
                SELECT * FROM courier_place WHERE queue = OLD.queue AND key = OLD.key ORDER BY copy LIMIT 1)
            WHERE true ON CONFLICT DO NOTHING;
        END;

        -- What was handed over before, to find the oldest of those that wait again.
        CREATE INDEX courier_place_tried ON courier_place (queue, copy) WHERE first_attempt IS NOT NULL;

        -- What has happened since the queue was made, counted with each write.
        ALTER TABLE courier_queue ADD COLUMN came INTEGER NOT NULL DEFAULT 0;
        ALTER TABLE courier_queue ADD COLUMN accepted INTEGER NOT NULL DEFAULT 0;
        ALTER TABLE courier_queue ADD COLUMN failed INTEGER NOT NULL DEFAULT 0;
        ALTER TABLE courier_queue ADD COLUMN set_aside INTEGER NOT NULL DEFAULT 0;

        -- These counts in the last minutes, in a ring: a place for each ten seconds.
        CREATE TABLE courier_history (
            queue     INTEGER NOT NULL,
            place     INTEGER NOT NULL,
            at        INTEGER NOT NULL,
            came      INTEGER NOT NULL,
            accepted  INTEGER NOT NULL,
            failed    INTEGER NOT NULL,
            set_aside INTEGER NOT NULL,
            PRIMARY KEY (queue, place)
        ) WITHOUT ROWID;

        -- What happened before an event was sent back, as JSON.
        ALTER TABLE courier_copy ADD COLUMN history TEXT;
        ALTER TABLE courier_dead_letter ADD COLUMN history TEXT;

        -- What those are known by, with their queue, that were taken over from elsewhere.
        ALTER TABLE courier_copy ADD COLUMN identity TEXT;
        ALTER TABLE courier_dead_letter ADD COLUMN identity TEXT;
        CREATE INDEX courier_copy_identity ON courier_copy (identity) WHERE identity IS NOT NULL;
        CREATE INDEX courier_dead_letter_identity ON courier_dead_letter (identity) WHERE identity IS NOT NULL;
        CREATE INDEX courier_dead_letter_queue ON courier_dead_letter (queue, id);

        -- Who clears away what, until when, and when it was last done.
        CREATE TABLE courier_broker_chore (
            chore  TEXT PRIMARY KEY,
            keeper TEXT,
            until  INTEGER NOT NULL,
            done   INTEGER
        ) WITHOUT ROWID;

        -- Which broker this is: one that was made anew has another.
        ALTER TABLE courier_topology ADD COLUMN generation TEXT NOT NULL DEFAULT '';
        UPDATE courier_topology SET generation = lower(hex(randomblob(16)));

        -- The last publish of each store: by which term of its relays, and which try of that. Each takes the place of
        -- the one before, which has to be there.
        CREATE TABLE courier_stamp (
            store  TEXT PRIMARY KEY,
            term   INTEGER NOT NULL,
            number INTEGER NOT NULL
        ) WITHOUT ROWID;

        -- When the host was started, by which all times here are reckoned, whatever clocks say; how far the clock was
        -- ahead of that which was the first to look, and how far one is at the least that has not gone back meanwhile.
        CREATE TABLE courier_broker_clock (
            id      INTEGER PRIMARY KEY CHECK (id = 1),
            boot    TEXT NOT NULL,
            started INTEGER NOT NULL,
            ahead   INTEGER NOT NULL,
            least   INTEGER
        );

        -- Of a queue that is another broker's in the first place: how many waited there when somebody last looked, and
        -- how many more are known to have gone than to have come.
        CREATE TABLE courier_elsewhere (
            queue   INTEGER PRIMARY KEY,
            waiting INTEGER NOT NULL,
            debt    INTEGER NOT NULL
        );

        -- What each process that receives last said of itself, as JSON; believed for a time.
        CREATE TABLE courier_worker (
            id     TEXT PRIMARY KEY,
            seen   INTEGER NOT NULL,
            until  INTEGER NOT NULL,
            report TEXT NOT NULL
        ) WITHOUT ROWID;
        """)));
}
