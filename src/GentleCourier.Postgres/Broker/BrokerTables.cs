using GentleCourier.Engines;

namespace GentleCourier.Postgres;

/// <summary>The tables of a broker.</summary>
internal static class BrokerTables
{
    public static readonly Schema Schema = new(new SchemaHistory("broker",
        new SchemaStep("0.1.0", IsAdditive: false, $"""
        CREATE TABLE courier.queue (
            id   int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
            name text NOT NULL UNIQUE,
            in_key_order boolean NOT NULL DEFAULT false,              -- events of one key one at a time
            is_paused    boolean NOT NULL DEFAULT false,              -- by hand: nothing is handed over
            paused_until timestamptz,                                 -- null: until it is resumed
            pause        int NOT NULL DEFAULT 0                       -- the number of the latest pause
        );

        -- Each pause of a queue, for as long as events may have been tried before it: time in it does not count.
        CREATE TABLE courier.pause (
            queue  int NOT NULL REFERENCES courier.queue,
            number int NOT NULL,
            began  timestamptz NOT NULL,
            ended  timestamptz,                                       -- or will, by itself
            who    text NOT NULL,
            why    text,
            PRIMARY KEY (queue, number)
        );

        -- What workers are to do by hand: receive otherwise than their settings say, or, without settings, take no
        -- more.
        CREATE TABLE courier.instruction (
            queue    text NOT NULL,                                   -- empty: all
            worker   text NOT NULL,                                   -- empty: all
            settings text,                                            -- JSON
            began    timestamptz NOT NULL,
            until    timestamptz,
            who      text NOT NULL,
            why      text,
            PRIMARY KEY (queue, worker)
        );

        CREATE TABLE courier.route (
            type  text NOT NULL,
            queue int NOT NULL REFERENCES courier.queue,
            in_key_order boolean NOT NULL DEFAULT false,              -- as its queue
            PRIMARY KEY (type, queue)
        );

        -- Grows with every change of a queue or a route; publishers keep routes in memory until it does.
        -- A broker that was made anew has another generation.
        CREATE TABLE courier.topology (
            id         int PRIMARY KEY CHECK (id = 1),
            version    bigint NOT NULL,
            generation text NOT NULL DEFAULT gen_random_uuid()::text,
            by_hand    bigint NOT NULL DEFAULT 0                      -- grows with every pause and instruction
        );
        INSERT INTO courier.topology VALUES (1, 1);

        -- The last publish of each store: by which term of its relays, and which try of that. Each adds its own row and
        -- deletes the one before, which has to be there.
        CREATE TABLE courier.stamp (
            store  text NOT NULL,
            term   bigint NOT NULL,
            number bigint NOT NULL,
            PRIMARY KEY (store, term, number)
        ) WITH ({Storage.ShortLived});

        -- One copy of an event in one queue, in the order of their numbers. Its last columns but one say who has it
        -- in hand, if anybody: a hand-over changes nothing that is indexed, and half of each page is left free for it.
        CREATE TABLE courier.copy (
            queue         int NOT NULL,
            id            bigint GENERATED ALWAYS AS IDENTITY,
            arrived       timestamptz NOT NULL,
            waited        interval,                                   -- in an outbox before; null: less than a second
            attempts      int NOT NULL DEFAULT 0,
            abandoned     int NOT NULL DEFAULT 0,                     -- the latest attempts in a row never settled
            uncounted     int NOT NULL DEFAULT 0,                     -- attempts that failed and did not count
            event         bytea NOT NULL,                             -- CloudEvents 1.0, JSON format
            error         text,
            first_attempt timestamptz,
            until         timestamptz,
            number        bigint,                                     -- drawn for each hand-over
            holder        text,
            key           text COLLATE "C",                           -- where the queue is in key order
            history       text,                                       -- what happened before it was sent back, as JSON
            identity      text,                                       -- of one that was taken over from elsewhere
            PRIMARY KEY (queue, id)
        ) WITH (fillfactor = 50, {Storage.ShortLived});
        ALTER TABLE courier.copy ALTER COLUMN event SET STORAGE EXTERNAL;
        CREATE INDEX copy_key ON courier.copy (queue, key, id) WHERE key IS NOT NULL;
        CREATE INDEX copy_identity ON courier.copy (queue, identity) WHERE identity IS NOT NULL;

        -- A copy that comes again later. When it is due, it goes to the end of its queue.
        CREATE TABLE courier.later (
            queue         int NOT NULL,
            due           timestamptz NOT NULL,
            id            bigint NOT NULL,
            arrived       timestamptz NOT NULL,
            waited        interval,
            attempts      int NOT NULL,
            uncounted     int NOT NULL DEFAULT 0,
            first_attempt timestamptz NOT NULL,
            error         text NOT NULL,
            event         bytea NOT NULL,
            key           text COLLATE "C",
            history       text,
            identity      text,
            PRIMARY KEY (queue, due, id)
        ) WITH ({Storage.ShortLived});
        ALTER TABLE courier.later ALTER COLUMN event SET STORAGE EXTERNAL;
        CREATE INDEX later_key ON courier.later (queue, key) WHERE key IS NOT NULL;
        CREATE INDEX later_key_id ON courier.later (queue, id) WHERE key IS NOT NULL;
        CREATE INDEX later_arrived ON courier.later (queue, arrived);
        CREATE INDEX later_identity ON courier.later (queue, identity) WHERE identity IS NOT NULL;

        -- In queues in key order, which copies are in hand, by their keys, and until when: so that none of a key is
        -- handed over before one that is. Those before a key's first copy are dead, and need not be gone through.
        CREATE TABLE courier.key_lease (
            queue  int NOT NULL,
            key    text COLLATE "C" NOT NULL,
            id     bigint NOT NULL,                                   -- the copy
            number bigint NOT NULL,                                   -- of the hand-over
            until  timestamptz NOT NULL,
            PRIMARY KEY (queue, key, id)
        ) WITH ({Storage.ShortLived});

        -- Keys that nobody has in hand any more, of which a copy waits that was passed by while somebody had. Many rows
        -- may say the same, and the copy may be gone: who hands over looks.
        CREATE TABLE courier.turn (
            queue int NOT NULL,
            id    bigint NOT NULL,                                    -- the copy, by which the oldest comes first
            key   text COLLATE "C" NOT NULL
        ) WITH ({Storage.ShortLived});
        CREATE INDEX turn_order ON courier.turn (queue, id);

        -- How many copies a queue has, how many of them come later, and how many dead letters; and what has happened
        -- since the queue was made. Each is the sum over rows of which each connection changes one, so that counting
        -- needs no reading of copies and makes nobody wait.
        CREATE TABLE courier.tally (
            queue     int NOT NULL,
            slot      int NOT NULL,
            copies    bigint NOT NULL,
            later     bigint NOT NULL,
            dead      bigint NOT NULL,
            came      bigint NOT NULL,
            accepted  bigint NOT NULL,
            failed    bigint NOT NULL,
            set_aside bigint NOT NULL,
            PRIMARY KEY (queue, slot)
        ) WITH (fillfactor = 20, autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 1000);

        -- Of a queue that is another broker's in the first place: how many waited there when somebody last looked, and
        -- how many more are known to have gone than to have come.
        CREATE TABLE courier.elsewhere (
            queue   int PRIMARY KEY,
            waiting bigint NOT NULL,
            debt    bigint NOT NULL
        ) WITH (fillfactor = 20);

        -- What has happened by the tally of the last minutes, in a ring: a place for each ten seconds.
        CREATE TABLE courier.history (
            queue     int NOT NULL,
            place     int NOT NULL,
            at        timestamptz NOT NULL,
            came      bigint NOT NULL,
            accepted  bigint NOT NULL,
            failed    bigint NOT NULL,
            set_aside bigint NOT NULL,
            PRIMARY KEY (queue, place)
        ) WITH (fillfactor = 50);

        -- How many copies each link has in hand, true until its leases are over.
        CREATE TABLE courier.link (
            id      bigint PRIMARY KEY,
            queue   int NOT NULL,
            worker  text NOT NULL,
            in_hand int NOT NULL,
            until   timestamptz NOT NULL,
            place   bigint NOT NULL,                                  -- nothing is left in the queue up to here
            passed  bigint NOT NULL                                   -- in key order: looked at up to here
        ) WITH (fillfactor = 20, autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 1000);

        -- What each process that receives last said of itself, as JSON; believed for a time.
        CREATE TABLE courier.worker (
            id     text PRIMARY KEY,
            seen   timestamptz NOT NULL,
            until  timestamptz NOT NULL,
            report text NOT NULL
        ) WITH (fillfactor = 20);

        CREATE TABLE courier.dead_letter (
            id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
            queue         int NOT NULL,
            reason        text NOT NULL,
            exception     text,
            message       text,
            stack         text,
            attempts      int NOT NULL,
            worker        text NOT NULL,
            arrived       timestamptz NOT NULL,
            first_attempt timestamptz NOT NULL,
            set_aside     timestamptz NOT NULL,
            event         bytea NOT NULL,
            history       text,
            identity      text
        );
        CREATE INDEX dead_letter_queue ON courier.dead_letter (queue, id);
        CREATE UNIQUE INDEX dead_letter_identity ON courier.dead_letter (queue, identity) WHERE identity IS NOT NULL;

        -- Who clears away what, until when, and when it was last done.
        CREATE TABLE courier.broker_chore (
            chore  text PRIMARY KEY,
            keeper text,
            until  timestamptz NOT NULL,
            done   timestamptz
        );
        """)));
}
