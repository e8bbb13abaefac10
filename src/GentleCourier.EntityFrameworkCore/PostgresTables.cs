using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Metadata.Builders;

namespace GentleCourier.EntityFrameworkCore;

/// <summary>
/// The tables of a store on PostgreSQL, in version 1 of its schema. The provider is known by its annotations alone, so
/// that services on other databases need not bring it.
/// </summary>
internal static class PostgresTables
{
    private const string StorageParameter = "Npgsql:StorageParameter:", Time = "timestamp with time zone";

    public static void AddTo(ModelBuilder model, string schema, bool inMigrations)
    {
        model.Entity<OutboxEvent>(outbox =>
        {
            outbox.ToTable("outbox", schema, inMigrations);
            outbox.HasKey(e => e.Id).HasName("outbox_pkey");
            outbox.Property(e => e.Id).Column("id", "bigint", 1).ValueGeneratedOnAdd();
            outbox.Property(e => e.EventId).Column("event_id", "text", 2);
            outbox.Property(e => e.Type).Column("type", "text", 3);
            outbox.Property(e => e.PartitionKey).Column("partition_key", "text", 4);
            outbox.Property<DateTime>(Tables.Added).Column("added", Time, 5).HasDefaultValueSql("clock_timestamp()");
            outbox.Property(e => e.Event).Column("event", "bytea", 6);
            ClearedByNumber(outbox);
        });
        model.Entity<LaterOutboxEvent>(later =>
        {
            later.ToTable("outbox_later", schema, inMigrations);
            later.HasKey(e => e.Id).HasName("outbox_later_pkey");
            later.Ignore(e => e.Due);
            later.Property(e => e.Id).Column("id", "bigint", 1).ValueGeneratedOnAdd();
            later.Property(e => e.EventId).Column("event_id", "text", 2);
            later.Property(e => e.Type).Column("type", "text", 3);
            later.Property(e => e.PartitionKey).Column("partition_key", "text", 4);
            later.Property<DateTime>(Tables.Added).Column("added", Time, 5).HasDefaultValueSql("clock_timestamp()");
            later.Property<DateTime>(Tables.DueAt).Column("due", Time, 6).ValueGeneratedNever();
            later.Property(e => e.Event).Column("event", "bytea", 7);
            later.HasIndex(Tables.DueAt, nameof(LaterOutboxEvent.Id)).HasDatabaseName("outbox_later_due");
            later.HasIndex(e => e.EventId).HasDatabaseName("outbox_later_id");
            later.HasIndex(e => e.PartitionKey).HasDatabaseName("outbox_later_key")
                .HasFilter("partition_key IS NOT NULL");
            later.HasAnnotation(StorageParameter + "autovacuum_vacuum_scale_factor", 0.02);
            later.HasAnnotation(StorageParameter + "autovacuum_vacuum_cost_delay", 0);
        });
        model.Add("schedule", schema, inMigrations, schedule =>
        {
            schedule.Column<string>("name", "text");
            schedule.Column<long>("version", "bigint");
            schedule.Column<string>("type", "text");
            schedule.Column<byte[]>("template", "bytea");
            schedule.Column<string>("rule", "text");
            schedule.Column<string>("declared_rule", "text");
            schedule.Column<string>("declaration", "text");
            foreach (var time in Tables.TimesOfSchedule)
                schedule.Column<DateTime?>(time, Time, required: false);
            schedule.HasKey("name").HasName("schedule_pkey");
        });
        model.Add("declaration", schema, inMigrations, declaration =>
        {
            declaration.Column<string>("name", "text");
            declaration.Column<string>("declaration", "text");
            declaration.Column<DateTime>("seen", Time);
            declaration.HasKey("name", "declaration").HasName("declaration_pkey");
        });
        model.Add("outbox_held", schema, inMigrations, held =>
        {
            held.Column<long>("id", "bigint");
            held.Column<string>("event_id", "text");
            held.Column<string>("type", "text");
            held.Column<string>("partition_key", "text", required: false);
            held.Column<DateTime>("added", Time);
            held.Column<byte[]>("event", "bytea");
            held.Column<int>("attempts", "integer");
            held.Column<DateTime?>("due", Time, required: false);
            held.Column<string>("error", "text");
            held.Column<string>("address", "text", required: false);
            held.HasKey("id").HasName("outbox_held_pkey");
            held.HasIndex("due").HasDatabaseName("outbox_held_due").HasFilter("partition_key IS NULL");
            held.HasIndex("partition_key", "id").HasDatabaseName("outbox_held_behind")
                .HasFilter("partition_key IS NOT NULL AND due IS NOT NULL");
        });
        model.Add("held_key", schema, inMigrations, key =>
        {
            key.Column<string>("partition_key", "text");
            key.Column<DateTime>("due", Time);
            key.Column<bool>("flows", "boolean");
            key.HasKey("partition_key").HasName("held_key_pkey");
        });
        model.Add("relay", schema, inMigrations, relay =>
        {
            relay.Column<int>("id", "integer");
            relay.Column<string>("relay", "text", required: false);
            relay.Column<long>("term", "bigint");
            relay.Column<DateTime>("until", Time);
            relay.Column<string>("error", "text", required: false);
            relay.Column<bool>("waits", "boolean");
            relay.Column<long>("place", "bigint");
            relay.Column<string>("identity", "text", required: false);
            relay.HasKey("id").HasName("relay_pkey");
            relay.ToTable(table => table.HasCheckConstraint("relay_id_check", "id = 1"));
            Parameter(relay, "fillfactor", 20);
            Parameter(relay, "autovacuum_vacuum_scale_factor", 0);
            Parameter(relay, "autovacuum_vacuum_threshold", 200);
            if (inMigrations)
                relay.HasData(
                new Dictionary<string, object> { ["id"] = 1, ["term"] = 0L, ["until"] = DateTime.UnixEpoch,
                ["waits"] = false, ["place"] = 0L });
        });
        model.Add("confirmed", schema, inMigrations, confirmed =>
        {
            confirmed.Column<string>("generation", "text");
            confirmed.Column<long>("term", "bigint");
            confirmed.Column<long>("number", "bigint");
            confirmed.Column<string>("address", "text");
            confirmed.HasKey("generation", "term", "number").HasName("confirmed_pkey");
            ClearedByNumber(confirmed);
        });
        model.Add("inbox", schema, inMigrations, inbox =>
        {
            inbox.Column<string>("queue", "text");
            inbox.Column<string>("source", "text");
            inbox.Column<string>("event_id", "text");
            inbox.Column<DateTime>("handled", Time);
            inbox.Column<int>("copies", "integer").HasDefaultValue(1);
            inbox.Column<long?>("hash", "bigint", required: false);
            inbox.Column<long?>("other", "bigint", required: false);
            inbox.Column<DateTime?>("other_at", Time, required: false);
            inbox.HasKey("queue", "source", "event_id").HasName("inbox_pkey");
            inbox.HasIndex("other_at").HasDatabaseName("inbox_other").HasFilter("other IS NOT NULL");
            inbox.HasAnnotation(StorageParameter + "autovacuum_vacuum_scale_factor", 0.05);
        });
        model.Add("store_chore", schema, inMigrations, chore =>
        {
            chore.Column<string>("chore", "text");
            chore.Column<string>("keeper", "text", required: false);
            chore.Column<DateTime>("until", Time);
            chore.Column<DateTime?>("done", Time, required: false);
            chore.Column<DateTime?>("before", Time, required: false);
            chore.HasKey("chore").HasName("store_chore_pkey");
        });
        model.Add("store_version", schema, inMigrations, version =>
        {
            version.Column<int>("version", "integer");
            version.Column<int>("oldest", "integer");
            version.Column<string>("release", "text");
            version.HasKey("version").HasName("store_version_pkey");
            if (inMigrations) version.HasData(Tables.Version());
        });
    }

    private static void ClearedByNumber(EntityTypeBuilder entity)
    {
        Parameter(entity, "autovacuum_vacuum_scale_factor", 0);
        Parameter(entity, "autovacuum_vacuum_threshold", 5000);
        Parameter(entity, "autovacuum_vacuum_cost_delay", 0);
        Parameter(entity, "autovacuum_vacuum_insert_scale_factor", 0);
        Parameter(entity, "autovacuum_vacuum_insert_threshold", 1_000_000);
        Parameter(entity, "autovacuum_analyze_scale_factor", 0);
        Parameter(entity, "autovacuum_analyze_threshold", 1_000_000);
    }

    private static void Parameter(EntityTypeBuilder entity, string name, int value) =>
        entity.HasAnnotation(StorageParameter + name, value);
}
