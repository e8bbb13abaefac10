using Microsoft.EntityFrameworkCore;

namespace GentleCourier.EntityFrameworkCore;

/// <summary>The tables of a store in a SQLite file, in version 1 of its schema. Times are Unix milliseconds.</summary>
internal static class SqliteTables
{
    public static void AddTo(ModelBuilder model, bool inMigrations)
    {
        model.Entity<OutboxEvent>(outbox =>
        {
            outbox.ToTable("courier_outbox", null, inMigrations);
            outbox.HasKey(e => e.Id);
            outbox.Property(e => e.Id).Column("seq", "INTEGER", 1).ValueGeneratedOnAdd();
            outbox.Property(e => e.EventId).Column("event_id", "TEXT", 2);
            outbox.Property(e => e.Type).Column("type", "TEXT", 3);
            outbox.Property(e => e.PartitionKey).Column("partition_key", "TEXT", 4);
            outbox.Property<long>(Tables.Added).Column("added", "INTEGER", 5).ValueGeneratedNever();
            outbox.Property(e => e.Event).Column("event", "BLOB", 6);
        });
        model.Entity<LaterOutboxEvent>(later =>
        {
            later.ToTable("courier_outbox_later", null, inMigrations);
            later.HasKey(e => e.Id);
            later.Ignore(e => e.Due);
            later.Property(e => e.Id).Column("seq", "INTEGER", 1).ValueGeneratedOnAdd();
            later.Property(e => e.EventId).Column("event_id", "TEXT", 2);
            later.Property(e => e.Type).Column("type", "TEXT", 3);
            later.Property(e => e.PartitionKey).Column("partition_key", "TEXT", 4);
            later.Property<long>(Tables.Added).Column("added", "INTEGER", 5).ValueGeneratedNever();
            later.Property<long>(Tables.DueAt).Column("due", "INTEGER", 6).ValueGeneratedNever();
            later.Property<long>(Tables.ByClock).Column("by_clock", "INTEGER", 7).ValueGeneratedNever();
            later.Property(e => e.Event).Column("event", "BLOB", 8);
            later.HasIndex([Tables.DueAt], "due").HasDatabaseName("courier_outbox_later_due")
                .HasFilter("by_clock = 0");
            later.HasIndex([Tables.DueAt], "clock").HasDatabaseName("courier_outbox_later_clock")
                .HasFilter("by_clock = 1");
            later.HasIndex(e => e.EventId).HasDatabaseName("courier_outbox_later_id");
            later.HasIndex(e => e.PartitionKey).HasDatabaseName("courier_outbox_later_key")
                .HasFilter("partition_key IS NOT NULL");
        });
        model.Add("courier_schedule", null, inMigrations, schedule =>
        {
            schedule.Column<string>("name", "TEXT");
            schedule.Column<long>("version", "INTEGER");
            schedule.Column<string>("type", "TEXT");
            schedule.Column<byte[]>("template", "BLOB");
            schedule.Column<string>("rule", "TEXT");
            schedule.Column<string>("declared_rule", "TEXT");
            schedule.Column<string>("declaration", "TEXT");
            foreach (var time in Tables.TimesOfSchedule)
                schedule.Column<long?>(time, "INTEGER", required: false);
            schedule.HasKey("name");
        });
        model.Add("courier_declaration", null, inMigrations, declaration =>
        {
            declaration.Column<string>("name", "TEXT");
            declaration.Column<string>("declaration", "TEXT");
            declaration.Column<long>("seen", "INTEGER");
            declaration.HasKey("name", "declaration");
        });
        model.Add("courier_outbox_held", null, inMigrations, held =>
        {
            held.Column<long>("seq", "INTEGER");
            held.Column<string>("event_id", "TEXT");
            held.Column<string>("type", "TEXT");
            held.Column<string>("partition_key", "TEXT", required: false);
            held.Column<long>("added", "INTEGER");
            held.Column<byte[]>("event", "BLOB");
            held.Column<int>("attempts", "INTEGER");
            held.Column<long?>("due", "INTEGER", required: false);
            held.Column<string>("error", "TEXT");
            held.Column<string>("address", "TEXT", required: false);
            held.HasKey("seq");
            held.HasIndex("due").HasDatabaseName("courier_outbox_held_due").HasFilter("partition_key IS NULL");
            held.HasIndex("partition_key", "seq").HasDatabaseName("courier_outbox_held_behind")
                .HasFilter("partition_key IS NOT NULL AND due IS NOT NULL");
        });
        model.Add("courier_held_key", null, inMigrations, key =>
        {
            key.Column<string>("partition_key", "TEXT");
            key.Column<long>("due", "INTEGER");
            key.Column<int>("flows", "INTEGER");
            key.HasKey("partition_key");
        });
        model.Add("courier_relay", null, inMigrations, relay =>
        {
            relay.Column<int>("id", "INTEGER");
            relay.Column<string>("relay", "TEXT", required: false);
            relay.Column<long>("term", "INTEGER");
            relay.Column<long>("until", "INTEGER");
            relay.Column<string>("error", "TEXT", required: false);
            relay.Column<string>("identity", "TEXT", required: false);
            relay.HasKey("id");
            relay.ToTable(table => table.HasCheckConstraint("courier_relay_id", "id = 1"));
            if (inMigrations)
                relay.HasData(new Dictionary<string, object> { ["id"] = 1, ["term"] = 0L, ["until"] = 0L });
        });
        model.Add("courier_confirmed", null, inMigrations, confirmed =>
        {
            confirmed.Column<string>("generation", "TEXT");
            confirmed.Column<long>("term", "INTEGER");
            confirmed.Column<long>("number", "INTEGER");
            confirmed.Column<string>("address", "TEXT");
            confirmed.HasKey("generation");
        });
        model.Add("courier_inbox", null, inMigrations, inbox =>
        {
            inbox.Column<string>("queue", "TEXT");
            inbox.Column<string>("source", "TEXT");
            inbox.Column<string>("event_id", "TEXT");
            inbox.Column<long>("handled", "INTEGER");
            inbox.Column<int>("copies", "INTEGER").HasDefaultValue(1);
            inbox.Column<long?>("hash", "INTEGER", required: false);
            inbox.Column<long?>("other", "INTEGER", required: false);
            inbox.Column<long?>("other_at", "INTEGER", required: false);
            inbox.HasKey("queue", "source", "event_id");
            inbox.HasIndex("other_at").HasDatabaseName("courier_inbox_other").HasFilter("other IS NOT NULL");
        });
        model.Add("courier_store_chore", null, inMigrations, chore =>
        {
            chore.Column<string>("chore", "TEXT");
            chore.Column<string>("keeper", "TEXT", required: false);
            chore.Column<long>("until", "INTEGER");
            chore.Column<long?>("done", "INTEGER", required: false);
            chore.Column<long?>("before", "INTEGER", required: false);
            chore.HasKey("chore");
        });
        model.Add("courier_store_clock", null, inMigrations, time =>
        {
            time.Column<int>("id", "INTEGER");
            time.Column<string>("boot", "TEXT");
            time.Column<long>("started", "INTEGER");
            time.Column<long>("ahead", "INTEGER");
            time.Column<long?>("least", "INTEGER", required: false);
            time.Column<int>("agreed", "INTEGER").HasDefaultValue(0);
            time.Column<long?>("doubted", "INTEGER", required: false);
            time.HasKey("id");
            time.ToTable(table => table.HasCheckConstraint("courier_store_clock_id", "id = 1"));
        });
        model.Add("courier_relay_clock", null, inMigrations, clock =>
        {
            clock.Column<string>("relay", "TEXT");
            clock.Column<long>("ahead", "INTEGER");
            clock.Column<long>("moved", "INTEGER");
            clock.Column<long>("until", "INTEGER");
            clock.HasKey("relay");
        });
        model.Add("courier_schema", null, inMigrations, version =>
        {
            version.Column<string>("part", "TEXT");
            version.Column<int>("version", "INTEGER");
            version.Column<int>("oldest", "INTEGER");
            version.Column<string>("release", "TEXT");
            version.HasKey("part");
            if (inMigrations) version.HasData(new Dictionary<string, object>(Tables.Version()) { ["part"] = "store" });
        });
    }
}
