using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Metadata.Builders;

namespace GentleCourier.EntityFrameworkCore;

/// <summary>Maps tables that no class stands for: only migrations need to know them.</summary>
internal static class Tables
{
    /// <summary>
    /// When an event was added: on PostgreSQL the server says it, in a file it is in Unix milliseconds.
    /// </summary>
    public const string Added = "Added";

    /// <summary>When an event for later is due, in the database's own way.</summary>
    public const string DueAt = "DueAt";

    /// <summary>Whether that is by the clock, or a delay; in a file only.</summary>
    public const string ByClock = "ByClock";

    /// <summary>The times of a schedule, in the order of their columns.</summary>
    public static readonly string[] TimesOfSchedule = ["next", "due", "fired", "paused", "changed"];

    /// <summary>
    /// The version of the store's tables that the model has; the engines' own steps lead to the same.
    /// </summary>
    public const int StoreVersion = 1;

    /// <summary>What the engines record of that version.</summary>
    public static Dictionary<string, object> Version() =>
        new() { ["version"] = StoreVersion, ["oldest"] = 1, ["release"] = "0.1.0" };

    public static void Add(
        this ModelBuilder model, string name, string? schema, bool inMigrations,
            Action<EntityTypeBuilder<Dictionary<string, object>>> columns) =>
        model.SharedTypeEntity<Dictionary<string, object>>($"courier.{name}", entity =>
        {
            entity.ToTable(name, schema, inMigrations);
            columns(entity);
        });

    public static void ToTable<T>(this EntityTypeBuilder<T> entity, string name, string? schema, bool inMigrations)
        where T : class =>
        entity.ToTable(name, schema, table => table.ExcludeFromMigrations(!inMigrations));

    /// <summary>A column with the database's own type, after those that there are.</summary>
    public static PropertyBuilder<TValue> Column<TValue>(
        this EntityTypeBuilder<Dictionary<string, object>> entity, string name, string type, bool required = true) =>
        entity.IndexerProperty<TValue>(name).Column(name, type, entity.Metadata.GetProperties().Count())
            .ValueGeneratedNever().IsRequired(required);

    /// <summary>Every column's name and type is said, whatever the conventions of the rest of the model are.</summary>
    public static PropertyBuilder<TValue> Column<TValue>(
        this PropertyBuilder<TValue> property, string name, string type, int order)
    {
        property.Metadata.SetMaxLength(null);
        return property.HasColumnName(name).HasColumnType(type).HasColumnOrder(order);
    }
}
