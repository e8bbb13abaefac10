using System.Globalization;
using GentleCourier.Engines;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Metadata.Builders;

namespace GentleCourier.EntityFrameworkCore;

/// <summary>
/// The tables of a store as part of a model, made from the steps by which engines make them. The provider is known by
/// its annotations alone, so that services on other databases need not bring it.
/// </summary>
internal sealed class StoreModel(ModelBuilder model, string? schema, bool inMigrations)
{
    /// <summary>When an event was added: on a server that says it, in a file it is in Unix milliseconds.</summary>
    public const string Added = "Added";

    /// <summary>When an event for later is due, in the database's own way.</summary>
    public const string DueAt = "DueAt";

    /// <summary>Whether that is by the clock, or a delay; in a file only.</summary>
    public const string ByClock = "ByClock";

    /// <summary>The version of the tables that the model has.</summary>
    public static int Version => Sqlite.StoreSteps.History.Latest.Version;

    public static void AddSqlite(ModelBuilder model, bool inMigrations)
    {
        var history = Sqlite.StoreSteps.History;
        var (version, oldest, release) = history.Latest;
        new StoreModel(model, null, inMigrations).Add($"""
            {history.Sql}
            CREATE TABLE courier_schema (
                part TEXT PRIMARY KEY, version INTEGER NOT NULL, oldest INTEGER NOT NULL, release TEXT NOT NULL);
            INSERT INTO courier_schema (part, version, oldest, release)
                VALUES ('store', {version}, {oldest}, '{release}')
            """);
    }

    public static void AddPostgres(ModelBuilder model, string schema, bool inMigrations)
    {
        var history = Postgres.StoreSteps.History;
        var (version, oldest, release) = history.Latest;
        new StoreModel(model, schema, inMigrations).Add($"""
            {history.Sql}
            CREATE TABLE courier.store_version (version int PRIMARY KEY, oldest int NOT NULL, release text NOT NULL);
            INSERT INTO courier.store_version (version, oldest, release) VALUES ({version}, {oldest}, '{release}')
            """);
    }

    private void Add(string sql)
    {
        foreach (var table in TablesMade.Read(sql))
        {
            var written = table.Name switch
            {
                "courier_outbox" or "outbox" => typeof(OutboxEvent),
                "courier_outbox_later" or "outbox_later" => typeof(LaterOutboxEvent),
                _ => null,
            };
            var entity = written is not null ? model.Entity(written)
                : model.SharedTypeEntity<Dictionary<string, object>>($"courier.{table.Name}");
            if (written == typeof(LaterOutboxEvent)) entity.Ignore(nameof(LaterOutboxEvent.Due));
            AddTable(entity, table, written is null ? static name => name : PropertyOf);
        }
    }

    private void AddTable(EntityTypeBuilder entity, TableMade table, Func<string, string> propertyOf)
    {
        entity.ToTable(table.Name, schema, builder =>
        {
            builder.ExcludeFromMigrations(!inMigrations);
            foreach (var column in table.Columns.Where(c => c.Check is not null))
                builder.HasCheckConstraint(
                    schema is null ? $"{table.Name}_{column.Name}" : $"{table.Name}_{column.Name}_check", column.Check);
        });
        for (var i = 0; i < table.Columns.Count; i++) AddColumn(entity, table.Columns[i], i + 1, propertyOf);
        var key = entity.HasKey([.. table.Key.Select(propertyOf)]);
        if (schema is not null) key.HasName($"{table.Name}_pkey");
        foreach (var index in table.Indexes)
            entity.HasIndex([.. index.Columns.Select(propertyOf)], index.Name).HasFilter(index.Filter);
        foreach (var (name, value) in table.Storage)
            entity.HasAnnotation($"Npgsql:StorageParameter:{name}", Number(value));
        if (inMigrations) entity.HasData(table.Rows.Select(row => RowOf(table, row)));
    }

    /// <summary>Every column's name and type is said, whatever the conventions of the rest of the model are.</summary>
    private static void AddColumn(
        EntityTypeBuilder entity, ColumnMade column, int place, Func<string, string> propertyOf)
    {
        var (type, name) = (TypeOf(column), propertyOf(column.Name));
        var isOwn = entity.Metadata.ClrType == typeof(Dictionary<string, object>);
        var property = isOwn ? entity.IndexerProperty(type, name) : entity.Property(type, name);
        property.Metadata.SetMaxLength(null);
        property.HasColumnName(column.Name).HasColumnType(StoreTypeOf(column.Type)).HasColumnOrder(place)
            .IsRequired(column.IsRequired);
        if (name == nameof(WrittenEvent.Id)) property.ValueGeneratedOnAdd();
        else if (column.Default is not { } value) property.ValueGeneratedNever();
        else if (value.EndsWith(')')) property.HasDefaultValueSql(value);
        else property.HasDefaultValue(ValueOf(column, value));
    }

    /// <summary>Events are written by a class of their own.</summary>
    private static string PropertyOf(string column) => column switch
    {
        "id" or "seq" => nameof(WrittenEvent.Id),
        "event_id" => nameof(WrittenEvent.EventId),
        "type" => nameof(WrittenEvent.Type),
        "partition_key" => nameof(WrittenEvent.PartitionKey),
        "event" => nameof(WrittenEvent.Event),
        "added" => Added,
        "due" => DueAt,
        "by_clock" => ByClock,
        _ => throw new NotSupportedException($"no property of an event is for the column {column}"),
    };

    private static Dictionary<string, object> RowOf(TableMade table, IReadOnlyDictionary<string, string> row) =>
        row.ToDictionary(
            value => value.Key, value => ValueOf(table.Columns.Single(c => c.Name == value.Key), value.Value),
            StringComparer.Ordinal);

    private static object ValueOf(ColumnMade column, string literal)
    {
        var type = Nullable.GetUnderlyingType(TypeOf(column)) ?? TypeOf(column);
        var text = literal.Trim('\'');
        return type == typeof(DateTime) && text == "epoch" ? DateTime.UnixEpoch
            : Convert.ChangeType(text, type, CultureInfo.InvariantCulture);
    }

    private static object Number(string value) =>
        int.TryParse(value, CultureInfo.InvariantCulture, out var whole) ? (object)whole
            : double.Parse(value, CultureInfo.InvariantCulture);

    private static Type TypeOf(ColumnMade column)
    {
        var type = column.Type switch
        {
            "text" or "TEXT" => typeof(string),
            "bytea" or "BLOB" => typeof(byte[]),
            "uuid" => typeof(Guid),
            "bigint" or "INTEGER" => typeof(long),
            "int" => typeof(int),
            "boolean" => typeof(bool),
            "timestamptz" => typeof(DateTime),
            var other => throw new NotSupportedException($"the model does not know the type {other}"),
        };
        return type.IsValueType && !column.IsRequired ? typeof(Nullable<>).MakeGenericType(type) : type;
    }

    private static string StoreTypeOf(string type) => type switch
    {
        "timestamptz" => "timestamp with time zone",
        "int" => "integer",
        _ => type,
    };
}
