using System.Runtime.ExceptionServices;
using GentleCourier.Events;
using Npgsql;
using NpgsqlTypes;

namespace GentleCourier.Postgres;

/// <summary>
/// Statements that travel to the server together and run in one transaction, or in several, one after the other. Built
/// and run by one caller.
/// </summary>
internal sealed class RoundTrip
{
    private readonly List<(NpgsqlBatchCommand Command, Action<NpgsqlDataReader>? Row)> statements = [];

    // The last of the first transaction, where there are others.
    private int? lastOfFirst;

    public int Count => statements.Count;

    /// <summary>
    /// Whether it is several transactions. Where one of them fails the driver may leave answers of the next ones
    /// unread, which the next user of the connection would take for its own: it must not be used again.
    /// </summary>
    public bool IsSeveral => lastOfFirst is not null;

    /// <summary>Whether the first of several transactions is known to be committed.</summary>
    public bool HasCommitted { get; private set; }

    /// <summary>
    /// The commit need not reach the disk before it is reported: for what a crash of the server may undo without harm.
    /// </summary>
    public RoundTrip NeedNotSurvive() => Add("SELECT set_config('synchronous_commit', 'off', true)", static _ => { });

    /// <summary>
    /// Has what was added so far be committed, and what comes after it run in a transaction of its own, in which
    /// <see cref="IsCommitted"/> holds. The server runs that also where the first has failed: it has to ask.
    /// </summary>
    /// <param name="number">A number that was not used for this before.</param>
    public RoundTrip Commit(long number)
    {
        // A setting of the session that a transaction makes is undone with it.
        Add("SELECT set_config('gentle.committed', $1::text, false)", static _ => { }, Parameter.Of(number));
        return Commit();
    }

    /// <summary>The same, where what comes after it does not ask.</summary>
    public RoundTrip Commit()
    {
        lastOfFirst ??= statements.Count - 1;
        statements[^1].Command.AppendErrorBarrier = true;
        return this;
    }

    /// <summary>Whether the transaction before this one was committed, which has this number.</summary>
    public static string IsCommitted(string number) =>
        $"current_setting('gentle.committed', true) = {number}::text";

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
        try
        {
            await RunAllAsync(connection, limit, cancellationToken).ConfigureAwait(false);
        }
        catch (NpgsqlException e) when (e.InnerException is AggregateException { InnerExceptions: [var first, ..] })
        {
            // Where several transactions fail the first says why.
            ExceptionDispatchInfo.Throw(first);
        }
    }

    private async Task RunAllAsync(NpgsqlConnection connection, TimeSpan limit, CancellationToken cancellationToken)
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
                for (var i = 0; i < statements.Count; i++)
                {
                    if (statements[i].Row is not { } row) continue;
                    while (await reader.ReadAsync(cancellationToken).ConfigureAwait(false)) row(reader);
                    await reader.NextResultAsync(cancellationToken).ConfigureAwait(false);
                    HasCommitted |= i == lastOfFirst;
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

    public static NpgsqlParameter Of(int? value) =>
        new() { NpgsqlDbType = NpgsqlDbType.Integer, Value = (object?)value ?? DBNull.Value };

    public static NpgsqlParameter Of(Guid value) => new NpgsqlParameter<Guid> { TypedValue = value };

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

    public static NpgsqlParameter Of(int?[] values) => Array(values, NpgsqlDbType.Integer);

    public static NpgsqlParameter Of(Guid[] values) => Array(values, NpgsqlDbType.Uuid);

    public static NpgsqlParameter Of(string?[] values) => Array(values, NpgsqlDbType.Text);

    public static NpgsqlParameter Of(TimeSpan?[] values) => Array(values, NpgsqlDbType.Interval);

    public static NpgsqlParameter Of(DateTime?[] values) => Array(values, NpgsqlDbType.TimestampTz);

    public static NpgsqlParameter Of(ReadOnlyMemory<byte>[] values) => Array(values, NpgsqlDbType.Bytea);

    private static NpgsqlParameter<T[]> Array<T>(T[] values, NpgsqlDbType element) =>
        new() { TypedValue = values, NpgsqlDbType = NpgsqlDbType.Array | element };
}
