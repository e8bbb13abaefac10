using System.Text.RegularExpressions;

namespace GentleCourier.EntityFrameworkCore;

/// <summary>A table, as statements make it.</summary>
/// <param name="Name">Its name, without a schema.</param>
/// <param name="Storage">How its server is to keep it, by the names of parameters.</param>
internal sealed record TableMade(string Name, IReadOnlyDictionary<string, string> Storage)
{
    public List<ColumnMade> Columns { get; } = [];

    /// <summary>The columns of its primary key.</summary>
    public List<string> Key { get; } = [];

    public List<IndexMade> Indexes { get; } = [];

    /// <summary>Rows that it has from the beginning: literals by columns.</summary>
    public List<IReadOnlyDictionary<string, string>> Rows { get; } = [];
}

/// <summary>A column.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Type">Its type, as the statement says it.</param>
/// <param name="IsRequired">Whether it cannot be null.</param>
/// <param name="Default">A literal or a call; null: none.</param>
/// <param name="Check">What has to hold; null: anything.</param>
internal sealed record ColumnMade(string Name, string Type, bool IsRequired, string? Default, string? Check);

/// <summary>An index.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Columns">Its columns.</param>
/// <param name="Filter">Which rows it has; null: all.</param>
internal sealed record IndexMade(string Name, string[] Columns, string? Filter);

/// <summary>
/// Reads the statements of the library's own steps: what they use of SQL, and no more. Anything else is refused, so
/// that a step that needs more is noticed when it is written.
/// </summary>
internal static partial class TablesMade
{
    private const RegexOptions Plain = RegexOptions.ExplicitCapture | RegexOptions.CultureInvariant;
    private const int Limit = 10_000; // milliseconds, where a moment is enough
    private const string Name = @"(courier\.)?(?<name>\w+)";

    /// <exception cref="NotSupportedException">A statement is of no kind that is known here.</exception>
    public static IReadOnlyList<TableMade> Read(string sql)
    {
        var tables = new List<TableMade>();
        TableMade Of(Match match) => tables.Single(table => table.Name == match.Groups["name"].Value);
        foreach (var statement in Comment().Replace(sql, "").Split(';').Select(s => Space().Replace(s, " ").Trim()))
        {
            if (statement.Length == 0 || Tuning().IsMatch(statement)) continue;
            if (Table().Match(statement) is { Success: true } made) tables.Add(TableOf(made));
            else if (Index().Match(statement) is { Success: true } index)
                Of(index).Indexes.Add(new(
                    index.Groups["index"].Value, Parts(index.Groups["columns"].Value),
                    index.Groups["filter"] is { Success: true, Value: var filter } ? filter : null));
            else if (Added().Match(statement) is { Success: true } added)
                Of(added).Columns.Add(ColumnOf(added.Groups["column"].Value));
            else if (Row().Match(statement) is { Success: true } row)
                Of(row).Rows.Add(Parts(row.Groups["columns"].Value).Zip(Parts(row.Groups["values"].Value))
                    .ToDictionary(pair => pair.First, pair => pair.Second, StringComparer.Ordinal));
            else throw new NotSupportedException($"the model does not know: {statement}");
        }
        return tables;
    }

    private static TableMade TableOf(Match made)
    {
        var table = new TableMade(made.Groups["name"].Value, Parts(made.Groups["storage"].Value)
            .Select(set => set.Split(" = ")).ToDictionary(set => set[0], set => set[1], StringComparer.Ordinal));
        foreach (var part in Parts(made.Groups["columns"].Value))
        {
            if (Key().Match(part) is { Success: true } key)
            {
                table.Key.AddRange(Parts(key.Groups["columns"].Value));
                continue;
            }
            table.Columns.Add(ColumnOf(part));
            if (part.Contains(" PRIMARY KEY", StringComparison.Ordinal)) table.Key.Add(table.Columns[^1].Name);
        }
        return table;
    }

    private static ColumnMade ColumnOf(string said)
    {
        var column = Column().Match(said);
        var rest = column.Groups["rest"].Value;
        return new(column.Groups["column"].Value, column.Groups["type"].Value, Required().IsMatch(rest),
            DefaultOf().Match(rest) is { Success: true } value ? value.Groups["default"].Value : null,
            Check().Match(rest) is { Success: true } check ? check.Groups["check"].Value : null);
    }

    /// <summary>What commas part, but not those inside parentheses.</summary>
    private static string[] Parts(string list) =>
        [.. Comma().Split(list).Select(part => part.Trim()).Where(part => part.Length > 0)];

    [GeneratedRegex("--[^\n]*", Plain, Limit)]
    private static partial Regex Comment();

    [GeneratedRegex(@"\s+", Plain, Limit)]
    private static partial Regex Space();

    [GeneratedRegex(@",(?![^(]*\))", Plain, Limit)]
    private static partial Regex Comma();

    [GeneratedRegex(
        $@"^CREATE TABLE {Name} \((?<columns>.*?)\)( WITHOUT ROWID)?( WITH \((?<storage>[^)]*)\))?$", Plain, Limit)]
    private static partial Regex Table();

    [GeneratedRegex(@"^PRIMARY KEY \((?<columns>[^)]*)\)$", Plain, Limit)]
    private static partial Regex Key();

    [GeneratedRegex(@"^(?<column>\w+) (?<type>\w+)(?<rest>.*)$", Plain, Limit)]
    private static partial Regex Column();

    [GeneratedRegex("NOT NULL|PRIMARY KEY", Plain, Limit)]
    private static partial Regex Required();

    [GeneratedRegex(@"(?<!BY) DEFAULT (?<default>\S+)", Plain, Limit)]
    private static partial Regex DefaultOf();

    [GeneratedRegex(@" CHECK \((?<check>[^)]*)\)", Plain, Limit)]
    private static partial Regex Check();

    [GeneratedRegex(
        $@"^CREATE INDEX (?<index>\w+) ON {Name} \((?<columns>[^)]*)\)( WHERE (?<filter>.*))?$", Plain, Limit)]
    private static partial Regex Index();

    [GeneratedRegex($@"^ALTER TABLE {Name} ADD COLUMN (?<column>.*)$", Plain, Limit)]
    private static partial Regex Added();

    // What no model can say, and nobody misses.
    [GeneratedRegex($"^ALTER TABLE {Name} ALTER COLUMN .* SET STORAGE ", Plain, Limit)]
    private static partial Regex Tuning();

    [GeneratedRegex($@"^INSERT INTO {Name} \((?<columns>[^)]*)\) VALUES \((?<values>[^)]*)\)$", Plain, Limit)]
    private static partial Regex Row();
}
