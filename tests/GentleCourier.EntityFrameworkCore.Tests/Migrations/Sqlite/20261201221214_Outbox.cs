using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace GentleCourier.EntityFrameworkCore.Tests.Migrations.Sqlite
{
    /// <inheritdoc />
    public partial class Outbox : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Boardings",
                columns: table => new
                {
                    Id = table.Column<int>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Tap = table.Column<int>(type: "INTEGER", nullable: false),
                    Pier = table.Column<string>(type: "TEXT", maxLength: 200, nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Boardings", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "courier_confirmed",
                columns: table => new
                {
                    generation = table.Column<string>(type: "TEXT", nullable: false),
                    term = table.Column<long>(type: "INTEGER", nullable: false),
                    number = table.Column<long>(type: "INTEGER", nullable: false),
                    address = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_confirmed", x => x.generation);
                });

            migrationBuilder.CreateTable(
                name: "courier_declaration",
                columns: table => new
                {
                    name = table.Column<string>(type: "TEXT", nullable: false),
                    declaration = table.Column<string>(type: "TEXT", nullable: false),
                    seen = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_declaration", x => new { x.name, x.declaration });
                });

            migrationBuilder.CreateTable(
                name: "courier_held_key",
                columns: table => new
                {
                    partition_key = table.Column<string>(type: "TEXT", nullable: false),
                    due = table.Column<long>(type: "INTEGER", nullable: true),
                    flows = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_held_key", x => x.partition_key);
                });

            migrationBuilder.CreateTable(
                name: "courier_held_obstacle",
                columns: table => new
                {
                    waits_for = table.Column<string>(type: "TEXT", nullable: false),
                    due = table.Column<long>(type: "INTEGER", nullable: false),
                    freed = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_held_obstacle", x => x.waits_for);
                });

            migrationBuilder.CreateTable(
                name: "courier_inbox",
                columns: table => new
                {
                    origin = table.Column<long>(type: "INTEGER", nullable: false),
                    id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    handled = table.Column<long>(type: "INTEGER", nullable: false),
                    hash = table.Column<long>(type: "INTEGER", nullable: true),
                    copies = table.Column<long>(type: "INTEGER", nullable: true),
                    other = table.Column<long>(type: "INTEGER", nullable: true),
                    other_at = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_inbox", x => new { x.origin, x.id });
                });

            migrationBuilder.CreateTable(
                name: "courier_inbox_source",
                columns: table => new
                {
                    origin = table.Column<long>(type: "INTEGER", nullable: false),
                    queue = table.Column<string>(type: "TEXT", nullable: false),
                    source = table.Column<string>(type: "TEXT", nullable: false),
                    seen = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_inbox_source", x => x.origin);
                });

            migrationBuilder.CreateTable(
                name: "courier_outbox",
                columns: table => new
                {
                    seq = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    event_id = table.Column<string>(type: "TEXT", nullable: false),
                    type = table.Column<string>(type: "TEXT", nullable: false),
                    partition_key = table.Column<string>(type: "TEXT", nullable: true),
                    added = table.Column<long>(type: "INTEGER", nullable: false),
                    @event = table.Column<byte[]>(name: "event", type: "BLOB", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_outbox", x => x.seq);
                });

            migrationBuilder.CreateTable(
                name: "courier_outbox_held",
                columns: table => new
                {
                    seq = table.Column<long>(type: "INTEGER", nullable: false),
                    event_id = table.Column<string>(type: "TEXT", nullable: false),
                    type = table.Column<string>(type: "TEXT", nullable: false),
                    partition_key = table.Column<string>(type: "TEXT", nullable: true),
                    added = table.Column<long>(type: "INTEGER", nullable: false),
                    @event = table.Column<byte[]>(name: "event", type: "BLOB", nullable: false),
                    attempts = table.Column<long>(type: "INTEGER", nullable: false),
                    due = table.Column<long>(type: "INTEGER", nullable: true),
                    error = table.Column<string>(type: "TEXT", nullable: false),
                    address = table.Column<string>(type: "TEXT", nullable: true),
                    waits_for = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_outbox_held", x => x.seq);
                });

            migrationBuilder.CreateTable(
                name: "courier_outbox_later",
                columns: table => new
                {
                    seq = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    event_id = table.Column<string>(type: "TEXT", nullable: false),
                    type = table.Column<string>(type: "TEXT", nullable: false),
                    partition_key = table.Column<string>(type: "TEXT", nullable: true),
                    added = table.Column<long>(type: "INTEGER", nullable: false),
                    due = table.Column<long>(type: "INTEGER", nullable: false),
                    by_clock = table.Column<long>(type: "INTEGER", nullable: false),
                    @event = table.Column<byte[]>(name: "event", type: "BLOB", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_outbox_later", x => x.seq);
                });

            migrationBuilder.CreateTable(
                name: "courier_relay",
                columns: table => new
                {
                    id = table.Column<long>(type: "INTEGER", nullable: false),
                    relay = table.Column<string>(type: "TEXT", nullable: true),
                    term = table.Column<long>(type: "INTEGER", nullable: false),
                    until = table.Column<long>(type: "INTEGER", nullable: false),
                    error = table.Column<string>(type: "TEXT", nullable: true),
                    identity = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_relay", x => x.id);
                    table.CheckConstraint("courier_relay_id", "id = 1");
                });

            migrationBuilder.CreateTable(
                name: "courier_relay_clock",
                columns: table => new
                {
                    relay = table.Column<string>(type: "TEXT", nullable: false),
                    ahead = table.Column<long>(type: "INTEGER", nullable: false),
                    moved = table.Column<long>(type: "INTEGER", nullable: false),
                    until = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_relay_clock", x => x.relay);
                });

            migrationBuilder.CreateTable(
                name: "courier_relay_pause",
                columns: table => new
                {
                    id = table.Column<long>(type: "INTEGER", nullable: false),
                    began = table.Column<long>(type: "INTEGER", nullable: false),
                    until = table.Column<long>(type: "INTEGER", nullable: true),
                    who = table.Column<string>(type: "TEXT", nullable: false),
                    why = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_relay_pause", x => x.id);
                    table.CheckConstraint("courier_relay_pause_id", "id = 1");
                });

            migrationBuilder.CreateTable(
                name: "courier_relay_route",
                columns: table => new
                {
                    type = table.Column<string>(type: "TEXT", nullable: false),
                    queue = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_relay_route", x => new { x.type, x.queue });
                });

            migrationBuilder.CreateTable(
                name: "courier_schedule",
                columns: table => new
                {
                    name = table.Column<string>(type: "TEXT", nullable: false),
                    version = table.Column<long>(type: "INTEGER", nullable: false),
                    type = table.Column<string>(type: "TEXT", nullable: false),
                    template = table.Column<byte[]>(type: "BLOB", nullable: false),
                    rule = table.Column<string>(type: "TEXT", nullable: false),
                    declared_rule = table.Column<string>(type: "TEXT", nullable: false),
                    declaration = table.Column<string>(type: "TEXT", nullable: false),
                    next = table.Column<long>(type: "INTEGER", nullable: true),
                    due = table.Column<long>(type: "INTEGER", nullable: true),
                    fired = table.Column<long>(type: "INTEGER", nullable: true),
                    paused = table.Column<long>(type: "INTEGER", nullable: true),
                    changed = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_schedule", x => x.name);
                });

            migrationBuilder.CreateTable(
                name: "courier_schema",
                columns: table => new
                {
                    part = table.Column<string>(type: "TEXT", nullable: false),
                    version = table.Column<long>(type: "INTEGER", nullable: false),
                    oldest = table.Column<long>(type: "INTEGER", nullable: false),
                    release = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_schema", x => x.part);
                });

            migrationBuilder.CreateTable(
                name: "courier_store_chore",
                columns: table => new
                {
                    chore = table.Column<string>(type: "TEXT", nullable: false),
                    keeper = table.Column<string>(type: "TEXT", nullable: true),
                    until = table.Column<long>(type: "INTEGER", nullable: false),
                    done = table.Column<long>(type: "INTEGER", nullable: true),
                    before = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_store_chore", x => x.chore);
                });

            migrationBuilder.CreateTable(
                name: "courier_store_clock",
                columns: table => new
                {
                    id = table.Column<long>(type: "INTEGER", nullable: false),
                    boot = table.Column<string>(type: "TEXT", nullable: false),
                    started = table.Column<long>(type: "INTEGER", nullable: false),
                    ahead = table.Column<long>(type: "INTEGER", nullable: false),
                    least = table.Column<long>(type: "INTEGER", nullable: true),
                    agreed = table.Column<long>(type: "INTEGER", nullable: false, defaultValue: 0L),
                    doubted = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_courier_store_clock", x => x.id);
                    table.CheckConstraint("courier_store_clock_id", "id = 1");
                });

            migrationBuilder.InsertData(
                table: "courier_relay",
                columns: new[] { "id", "error", "identity", "relay", "term", "until" },
                values: new object[] { 1L, null, null, null, 0L, 0L });

            migrationBuilder.InsertData(
                table: "courier_schema",
                columns: new[] { "part", "oldest", "release", "version" },
                values: new object[] { "store", 1L, "0.1.0", 1L });

            migrationBuilder.CreateIndex(
                name: "IX_Boardings_Tap",
                table: "Boardings",
                column: "Tap");

            migrationBuilder.CreateIndex(
                name: "courier_held_key_due",
                table: "courier_held_key",
                column: "due",
                filter: "due IS NOT NULL");

            migrationBuilder.CreateIndex(
                name: "courier_inbox_other",
                table: "courier_inbox",
                column: "other_at",
                filter: "other IS NOT NULL");

            migrationBuilder.CreateIndex(
                name: "courier_outbox_held_behind",
                table: "courier_outbox_held",
                columns: new[] { "partition_key", "seq" },
                filter: "partition_key IS NOT NULL AND due IS NOT NULL");

            migrationBuilder.CreateIndex(
                name: "courier_outbox_held_due",
                table: "courier_outbox_held",
                column: "due",
                filter: "partition_key IS NULL AND waits_for IS NULL");

            migrationBuilder.CreateIndex(
                name: "courier_outbox_held_waiting",
                table: "courier_outbox_held",
                columns: new[] { "waits_for", "seq" },
                filter: "waits_for IS NOT NULL");

            migrationBuilder.CreateIndex(
                name: "courier_outbox_later_clock",
                table: "courier_outbox_later",
                column: "due",
                filter: "by_clock = 1");

            migrationBuilder.CreateIndex(
                name: "courier_outbox_later_due",
                table: "courier_outbox_later",
                column: "due",
                filter: "by_clock = 0");

            migrationBuilder.CreateIndex(
                name: "courier_outbox_later_id",
                table: "courier_outbox_later",
                column: "event_id");

            migrationBuilder.CreateIndex(
                name: "courier_outbox_later_key",
                table: "courier_outbox_later",
                column: "partition_key",
                filter: "partition_key IS NOT NULL");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Boardings");

            migrationBuilder.DropTable(
                name: "courier_confirmed");

            migrationBuilder.DropTable(
                name: "courier_declaration");

            migrationBuilder.DropTable(
                name: "courier_held_key");

            migrationBuilder.DropTable(
                name: "courier_held_obstacle");

            migrationBuilder.DropTable(
                name: "courier_inbox");

            migrationBuilder.DropTable(
                name: "courier_inbox_source");

            migrationBuilder.DropTable(
                name: "courier_outbox");

            migrationBuilder.DropTable(
                name: "courier_outbox_held");

            migrationBuilder.DropTable(
                name: "courier_outbox_later");

            migrationBuilder.DropTable(
                name: "courier_relay");

            migrationBuilder.DropTable(
                name: "courier_relay_clock");

            migrationBuilder.DropTable(
                name: "courier_relay_pause");

            migrationBuilder.DropTable(
                name: "courier_relay_route");

            migrationBuilder.DropTable(
                name: "courier_schedule");

            migrationBuilder.DropTable(
                name: "courier_schema");

            migrationBuilder.DropTable(
                name: "courier_store_chore");

            migrationBuilder.DropTable(
                name: "courier_store_clock");
        }
    }
}
