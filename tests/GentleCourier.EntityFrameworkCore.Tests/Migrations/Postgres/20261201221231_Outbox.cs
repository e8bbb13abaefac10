using System;
using Microsoft.EntityFrameworkCore.Migrations;
using Npgsql.EntityFrameworkCore.PostgreSQL.Metadata;

#nullable disable

namespace GentleCourier.EntityFrameworkCore.Tests.Migrations.Postgres
{
    /// <inheritdoc />
    public partial class Outbox : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.EnsureSchema(
                name: "courier");

            migrationBuilder.CreateTable(
                name: "Boardings",
                columns: table => new
                {
                    Id = table.Column<int>(type: "integer", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    Tap = table.Column<int>(type: "integer", nullable: false),
                    Pier = table.Column<string>(type: "character varying(200)", maxLength: 200, nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Boardings", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "confirmed",
                schema: "courier",
                columns: table => new
                {
                    generation = table.Column<string>(type: "text", nullable: false),
                    term = table.Column<long>(type: "bigint", nullable: false),
                    number = table.Column<long>(type: "bigint", nullable: false),
                    address = table.Column<string>(type: "text", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("confirmed_pkey", x => new { x.generation, x.term, x.number });
                })
                .Annotation("Npgsql:StorageParameter:autovacuum_analyze_scale_factor", 0)
                .Annotation("Npgsql:StorageParameter:autovacuum_analyze_threshold", 1000000)
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_cost_delay", 0)
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_insert_scale_factor", 0)
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_insert_threshold", 1000000)
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_scale_factor", 0)
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_threshold", 5000);

            migrationBuilder.CreateTable(
                name: "declaration",
                schema: "courier",
                columns: table => new
                {
                    name = table.Column<string>(type: "text", nullable: false),
                    declaration = table.Column<string>(type: "text", nullable: false),
                    seen = table.Column<DateTime>(type: "timestamp with time zone", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("declaration_pkey", x => new { x.name, x.declaration });
                });

            migrationBuilder.CreateTable(
                name: "held_key",
                schema: "courier",
                columns: table => new
                {
                    partition_key = table.Column<string>(type: "text", nullable: false),
                    due = table.Column<DateTime>(type: "timestamp with time zone", nullable: true),
                    flows = table.Column<bool>(type: "boolean", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("held_key_pkey", x => x.partition_key);
                });

            migrationBuilder.CreateTable(
                name: "held_obstacle",
                schema: "courier",
                columns: table => new
                {
                    waits_for = table.Column<string>(type: "text", nullable: false),
                    due = table.Column<DateTime>(type: "timestamp with time zone", nullable: false),
                    freed = table.Column<bool>(type: "boolean", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("held_obstacle_pkey", x => x.waits_for);
                });

            migrationBuilder.CreateTable(
                name: "inbox",
                schema: "courier",
                columns: table => new
                {
                    origin = table.Column<long>(type: "bigint", nullable: false),
                    id = table.Column<Guid>(type: "uuid", nullable: false),
                    handled = table.Column<int>(type: "integer", nullable: false),
                    hash = table.Column<int>(type: "integer", nullable: true),
                    event_id = table.Column<string>(type: "text", nullable: true),
                    copies = table.Column<int>(type: "integer", nullable: true),
                    other = table.Column<int>(type: "integer", nullable: true),
                    other_at = table.Column<DateTime>(type: "timestamp with time zone", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("inbox_pkey", x => new { x.origin, x.id });
                })
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_scale_factor", 0.050000000000000003);

            migrationBuilder.CreateTable(
                name: "inbox_source",
                schema: "courier",
                columns: table => new
                {
                    origin = table.Column<long>(type: "bigint", nullable: false),
                    queue = table.Column<string>(type: "text", nullable: false),
                    source = table.Column<string>(type: "text", nullable: false),
                    seen = table.Column<DateTime>(type: "timestamp with time zone", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("inbox_source_pkey", x => x.origin);
                });

            migrationBuilder.CreateTable(
                name: "outbox",
                schema: "courier",
                columns: table => new
                {
                    id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    event_id = table.Column<string>(type: "text", nullable: false),
                    type = table.Column<string>(type: "text", nullable: false),
                    partition_key = table.Column<string>(type: "text", nullable: true),
                    added = table.Column<DateTime>(type: "timestamp with time zone", nullable: false, defaultValueSql: "clock_timestamp()"),
                    @event = table.Column<byte[]>(name: "event", type: "bytea", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("outbox_pkey", x => x.id);
                })
                .Annotation("Npgsql:StorageParameter:autovacuum_analyze_scale_factor", 0)
                .Annotation("Npgsql:StorageParameter:autovacuum_analyze_threshold", 1000000)
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_cost_delay", 0)
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_insert_scale_factor", 0)
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_insert_threshold", 1000000)
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_scale_factor", 0)
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_threshold", 5000);

            migrationBuilder.CreateTable(
                name: "outbox_held",
                schema: "courier",
                columns: table => new
                {
                    id = table.Column<long>(type: "bigint", nullable: false),
                    event_id = table.Column<string>(type: "text", nullable: false),
                    type = table.Column<string>(type: "text", nullable: false),
                    partition_key = table.Column<string>(type: "text", nullable: true),
                    added = table.Column<DateTime>(type: "timestamp with time zone", nullable: false),
                    @event = table.Column<byte[]>(name: "event", type: "bytea", nullable: false),
                    attempts = table.Column<int>(type: "integer", nullable: false),
                    due = table.Column<DateTime>(type: "timestamp with time zone", nullable: true),
                    error = table.Column<string>(type: "text", nullable: false),
                    address = table.Column<string>(type: "text", nullable: true),
                    waits_for = table.Column<string>(type: "text", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("outbox_held_pkey", x => x.id);
                });

            migrationBuilder.CreateTable(
                name: "outbox_later",
                schema: "courier",
                columns: table => new
                {
                    id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    event_id = table.Column<string>(type: "text", nullable: false),
                    type = table.Column<string>(type: "text", nullable: false),
                    partition_key = table.Column<string>(type: "text", nullable: true),
                    added = table.Column<DateTime>(type: "timestamp with time zone", nullable: false, defaultValueSql: "clock_timestamp()"),
                    due = table.Column<DateTime>(type: "timestamp with time zone", nullable: false),
                    @event = table.Column<byte[]>(name: "event", type: "bytea", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("outbox_later_pkey", x => x.id);
                })
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_cost_delay", 0)
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_scale_factor", 0.02);

            migrationBuilder.CreateTable(
                name: "relay",
                schema: "courier",
                columns: table => new
                {
                    id = table.Column<int>(type: "integer", nullable: false),
                    relay = table.Column<string>(type: "text", nullable: true),
                    term = table.Column<long>(type: "bigint", nullable: false),
                    until = table.Column<DateTime>(type: "timestamp with time zone", nullable: false),
                    error = table.Column<string>(type: "text", nullable: true),
                    waits = table.Column<bool>(type: "boolean", nullable: false),
                    place = table.Column<long>(type: "bigint", nullable: false),
                    identity = table.Column<string>(type: "text", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("relay_pkey", x => x.id);
                    table.CheckConstraint("relay_id_check", "id = 1");
                })
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_scale_factor", 0)
                .Annotation("Npgsql:StorageParameter:autovacuum_vacuum_threshold", 200)
                .Annotation("Npgsql:StorageParameter:fillfactor", 20);

            migrationBuilder.CreateTable(
                name: "relay_pause",
                schema: "courier",
                columns: table => new
                {
                    id = table.Column<int>(type: "integer", nullable: false),
                    began = table.Column<DateTime>(type: "timestamp with time zone", nullable: false),
                    until = table.Column<DateTime>(type: "timestamp with time zone", nullable: true),
                    who = table.Column<string>(type: "text", nullable: false),
                    why = table.Column<string>(type: "text", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("relay_pause_pkey", x => x.id);
                    table.CheckConstraint("relay_pause_id_check", "id = 1");
                });

            migrationBuilder.CreateTable(
                name: "relay_route",
                schema: "courier",
                columns: table => new
                {
                    type = table.Column<string>(type: "text", nullable: false),
                    queue = table.Column<string>(type: "text", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("relay_route_pkey", x => new { x.type, x.queue });
                });

            migrationBuilder.CreateTable(
                name: "schedule",
                schema: "courier",
                columns: table => new
                {
                    name = table.Column<string>(type: "text", nullable: false),
                    version = table.Column<long>(type: "bigint", nullable: false),
                    type = table.Column<string>(type: "text", nullable: false),
                    template = table.Column<byte[]>(type: "bytea", nullable: false),
                    rule = table.Column<string>(type: "text", nullable: false),
                    declared_rule = table.Column<string>(type: "text", nullable: false),
                    declaration = table.Column<string>(type: "text", nullable: false),
                    next = table.Column<DateTime>(type: "timestamp with time zone", nullable: true),
                    due = table.Column<DateTime>(type: "timestamp with time zone", nullable: true),
                    fired = table.Column<DateTime>(type: "timestamp with time zone", nullable: true),
                    paused = table.Column<DateTime>(type: "timestamp with time zone", nullable: true),
                    changed = table.Column<DateTime>(type: "timestamp with time zone", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("schedule_pkey", x => x.name);
                });

            migrationBuilder.CreateTable(
                name: "store_chore",
                schema: "courier",
                columns: table => new
                {
                    chore = table.Column<string>(type: "text", nullable: false),
                    keeper = table.Column<string>(type: "text", nullable: true),
                    until = table.Column<DateTime>(type: "timestamp with time zone", nullable: false),
                    done = table.Column<DateTime>(type: "timestamp with time zone", nullable: true),
                    before = table.Column<DateTime>(type: "timestamp with time zone", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("store_chore_pkey", x => x.chore);
                });

            migrationBuilder.CreateTable(
                name: "store_version",
                schema: "courier",
                columns: table => new
                {
                    version = table.Column<int>(type: "integer", nullable: false),
                    oldest = table.Column<int>(type: "integer", nullable: false),
                    release = table.Column<string>(type: "text", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("store_version_pkey", x => x.version);
                });

            migrationBuilder.InsertData(
                schema: "courier",
                table: "relay",
                columns: new[] { "id", "error", "identity", "place", "relay", "term", "until", "waits" },
                values: new object[] { 1, null, null, 0L, null, 0L, new DateTime(1970, 1, 1, 0, 0, 0, 0, DateTimeKind.Utc), false });

            migrationBuilder.InsertData(
                schema: "courier",
                table: "store_version",
                columns: new[] { "version", "oldest", "release" },
                values: new object[] { 1, 1, "0.1.0" });

            migrationBuilder.CreateIndex(
                name: "IX_Boardings_Tap",
                table: "Boardings",
                column: "Tap");

            migrationBuilder.CreateIndex(
                name: "held_key_due",
                schema: "courier",
                table: "held_key",
                column: "due",
                filter: "due IS NOT NULL");

            migrationBuilder.CreateIndex(
                name: "inbox_other",
                schema: "courier",
                table: "inbox",
                column: "other_at",
                filter: "other IS NOT NULL");

            migrationBuilder.CreateIndex(
                name: "outbox_held_behind",
                schema: "courier",
                table: "outbox_held",
                columns: new[] { "partition_key", "id" },
                filter: "partition_key IS NOT NULL AND due IS NOT NULL");

            migrationBuilder.CreateIndex(
                name: "outbox_held_due",
                schema: "courier",
                table: "outbox_held",
                column: "due",
                filter: "partition_key IS NULL AND waits_for IS NULL");

            migrationBuilder.CreateIndex(
                name: "outbox_held_waiting",
                schema: "courier",
                table: "outbox_held",
                columns: new[] { "waits_for", "id" },
                filter: "waits_for IS NOT NULL");

            migrationBuilder.CreateIndex(
                name: "outbox_later_due",
                schema: "courier",
                table: "outbox_later",
                columns: new[] { "due", "id" });

            migrationBuilder.CreateIndex(
                name: "outbox_later_id",
                schema: "courier",
                table: "outbox_later",
                column: "event_id");

            migrationBuilder.CreateIndex(
                name: "outbox_later_key",
                schema: "courier",
                table: "outbox_later",
                column: "partition_key",
                filter: "partition_key IS NOT NULL");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Boardings");

            migrationBuilder.DropTable(
                name: "confirmed",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "declaration",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "held_key",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "held_obstacle",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "inbox",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "inbox_source",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "outbox",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "outbox_held",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "outbox_later",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "relay",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "relay_pause",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "relay_route",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "schedule",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "store_chore",
                schema: "courier");

            migrationBuilder.DropTable(
                name: "store_version",
                schema: "courier");
        }
    }
}
