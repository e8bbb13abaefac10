using GentleCourier.Events;
using Npgsql;
using NpgsqlTypes;

namespace GentleCourier.Postgres;

/// <summary>
/// Statements that travel to the server together and run in one transaction. Built and run by one caller.
/// </summary>
internal sealed class RoundTrip
{
    private readonly List<(NpgsqlBatchCommand Command, Action<NpgsqlDataReader>? Row)> statements = [];

    public int Count => statements.Count;

    /// <summary>
    /// The commit need not reach the disk before it is reported: for what a crash of the server may undo without harm.
    /// </summary>
    public RoundTrip NeedNotSurvive() => Add("SELECT set_config('synchronous_commit', 'off', true)", static _ => { });

    /// <summary>Adds a statement that returns nothing.</summary>
    public RoundTrip Add(string sql, params ReadOnlySpan<NpgsqlParameter> parameters) => Add(sql, null, parameters);

    /// <summary>Adds a statement that returns rows, if only none.</summary>
    public RoundTrip Add(string sql, Action<NpgsqlDataReader>? row, params ReadOnlySpan<NpgsqlParameter> parameters)
    {
        var command = new NpgsqlBatchCommand(sql);
        foreach (var parameter in parameters) command.Parameters.Add(parameter);
        statements.Add((command, row));
        return this;
    }

    public async Task RunAsync(NpgsqlConnection connection, TimeSpan limit, CancellationToken cancellationToken)
    {
        var batch = connection.CreateBatch();
        await using (batch.ConfigureAwait(false))
        {
            batch.Timeout = (int)Math.Ceiling(limit.TotalSeconds);
            foreach (var (command, _) in statements) batch.BatchCommands.Add(command);
            var reader = await batch.ExecuteReaderAsync(cancellationToken).ConfigureAwait(false);
            await using (reader.ConfigureAwait(false))
            {
                // The reader passes over statements that return nothing.
                foreach (var (_, row) in statements)
                {
                    if (row is null) continue;
                    while (await reader.ReadAsync(cancellationToken).ConfigureAwait(false)) row(reader);
                    await reader.NextResultAsync(cancellationToken).ConfigureAwait(false);
                }
                // An error of a later statement is reported only when its turn comes.
                while (await reader.NextResultAsync(cancellationToken).ConfigureAwait(false))
                {
                }
            }
        }
    }
}

/// <summary>Parameters by position, <c>$1</c> and so on.</summary>
internal static class Parameter
{
    public static NpgsqlParameter Of(long value) => new NpgsqlParameter<long> { TypedValue = value };

    public static NpgsqlParameter Of(long? value) =>
        new() { NpgsqlDbType = NpgsqlDbType.Bigint, Value = (object?)value ?? DBNull.Value };

    public static NpgsqlParameter Of(int value) => new NpgsqlParameter<int> { TypedValue = value };

    public static NpgsqlParameter Of(bool value) => new NpgsqlParameter<bool> { TypedValue = value };

    public static NpgsqlParameter Of(TimeSpan? value) =>
        new() { NpgsqlDbType = NpgsqlDbType.Interval, Value = (object?)value ?? DBNull.Value };

    public static NpgsqlParameter Of(string? value) =>
        new() { NpgsqlDbType = NpgsqlDbType.Text, Value = (object?)value ?? DBNull.Value };

    /// <summary>A text for people, made fit.</summary>
    public static NpgsqlParameter Plain(string? value) => Of(value is null ? null : TextRule.Fit(value));

    public static NpgsqlParameter Plain(string?[] values) =>
        Of(System.Array.ConvertAll(values, value => value is null ? null : TextRule.Fit(value)));

    public static NpgsqlParameter Of(ReadOnlyMemory<byte> value) =>
        new NpgsqlParameter<ReadOnlyMemory<byte>> { TypedValue = value, NpgsqlDbType = NpgsqlDbType.Bytea };

    public static NpgsqlParameter Of(DateTime? value) =>
        new() { NpgsqlDbType = NpgsqlDbType.TimestampTz, Value = (object?)value ?? DBNull.Value };

    public static NpgsqlParameter Of(long[] values) => Array(values, NpgsqlDbType.Bigint);

    public static NpgsqlParameter Of(long?[] values) => Array(values, NpgsqlDbType.Bigint);

    public static NpgsqlParameter Of(bool[] values) => Array(values, NpgsqlDbType.Boolean);

    public static NpgsqlParameter Of(int[] values) => Array(values, NpgsqlDbType.Integer);

    public static NpgsqlParameter Of(string?[] values) => Array(values, NpgsqlDbType.Text);

    public static NpgsqlParameter Of(TimeSpan?[] values) => Array(values, NpgsqlDbType.Interval);

    public static NpgsqlParameter Of(DateTime?[] values) => Array(values, NpgsqlDbType.TimestampTz);

    public static NpgsqlParameter Of(ReadOnlyMemory<byte>[] values) => Array(values, NpgsqlDbType.Bytea);

    private static NpgsqlParameter<T[]> Array<T>(T[] values, NpgsqlDbType element) =>
        new() { TypedValue = values, NpgsqlDbType = NpgsqlDbType.Array | element };
}
