using GentleCourier.Engines;
using GentleCourier.Events;
using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace GentleCourier.Sqlite;

/// <summary>
/// A prepared statement that is run again and again on one connection. The driver's own commands look up each parameter
/// by name and make a reader for each run; on the paths that every event takes, that is most of the cost. Not
/// thread-safe.
/// </summary>
internal sealed class Statement : IDisposable
{
    private readonly sqlite3 handle;
    private readonly sqlite3_stmt statement;
    private readonly string sql;
    private readonly OwnConnection? keeper;

    /// <param name="connection">Where it is run.</param>
    /// <param name="sql">One statement; its parameters are numbered.</param>
    /// <param name="keeper">Is given it back when it is disposed.</param>
    public Statement(SqliteConnection connection, string sql, OwnConnection? keeper = null)
    {
        (this.sql, this.keeper) = (sql, keeper);
        handle = connection.Handle!;
        Check(raw.sqlite3_prepare_v3(handle, sql, raw.SQLITE_PREPARE_PERSISTENT, out statement));
    }

    /// <summary>One for a single use, which may have been prepared for another before.</summary>
    public static Statement On(SqliteConnection connection, string sql) =>
        connection is OwnConnection own ? own.Statement(sql) : new Statement(connection, sql);

    /// <summary>Sets parameter <paramref name="index"/>, from 1 on.</summary>
    public Statement Bind(int index, long value)
    {
        Check(raw.sqlite3_bind_int64(statement, index, value));
        return this;
    }

    public Statement Bind(int index, long? value) => value is { } number ? Bind(index, number) : BindNull(index);

    public Statement Bind(int index, string? value)
    {
        if (value is null) return BindNull(index);
        Check(raw.sqlite3_bind_text(statement, index, value));
        return this;
    }

    /// <summary>A text for people, made fit.</summary>
    public Statement BindPlain(int index, string? value) => Bind(index, value is null ? null : TextRule.Fit(value));

    public Statement Bind(int index, ReadOnlySpan<byte> value)
    {
        Check(raw.sqlite3_bind_blob(statement, index, value));
        return this;
    }

    /// <summary>Sets two parameters: a key's origin, and its id, which has 16 bytes or is a text.</summary>
    public Statement Bind(int index, InboxKey key)
    {
        if (key.Name is not null) return Bind(index, key.Origin).Bind(index + 1, key.Name);
        Span<byte> id = stackalloc byte[16];
        key.Uuid.TryWriteBytes(id, bigEndian: true, out _);
        return Bind(index, key.Origin).Bind(index + 1, id);
    }

    /// <summary>Goes to the next row; false, and reset for the next run, where there is none.</summary>
    public bool Step()
    {
        var result = raw.sqlite3_step(statement);
        if (result == raw.SQLITE_ROW) return true;
        // Resetting repeats the error of the step.
        raw.sqlite3_reset(statement);
        if (result != raw.SQLITE_DONE) SqliteException.ThrowExceptionForRC(result, handle);
        return false;
    }

    /// <summary>Runs to the end; the number of rows that were changed.</summary>
    public int Run()
    {
        while (Step())
        {
        }
        return raw.sqlite3_changes(handle);
    }

    /// <summary>
    /// Runs a query and gives the first column of its first row; null where there is no row or the value is null.
    /// </summary>
    public long? Scalar()
    {
        if (!Step()) return null;
        var value = NullableInt64(0);
        Reset();
        return value;
    }

    /// <summary>The row number of the last insert on this connection.</summary>
    public long LastRowId => raw.sqlite3_last_insert_rowid(handle);

    public void Reset() => raw.sqlite3_reset(statement);

    public long Int64(int column) => raw.sqlite3_column_int64(statement, column);

    public long? NullableInt64(int column) =>
        raw.sqlite3_column_type(statement, column) == raw.SQLITE_NULL ? null
            : raw.sqlite3_column_int64(statement, column);

    public string? Text(int column) =>
        raw.sqlite3_column_type(statement, column) == raw.SQLITE_NULL ? null
            : raw.sqlite3_column_text(statement, column).utf8_to_string();

    /// <summary>What was bound as a key, in this column and the next.</summary>
    public InboxKey Key(int column) =>
        raw.sqlite3_column_type(statement, column + 1) == raw.SQLITE_TEXT
            ? new(Int64(column), default, Text(column + 1))
            : new(Int64(column), new Guid(raw.sqlite3_column_blob(statement, column + 1), bigEndian: true), null);

    public byte[] Blob(int column) => raw.sqlite3_column_blob(statement, column).ToArray();

    /// <summary>Is done with it.</summary>
    public void Dispose()
    {
        if (keeper is { State: System.Data.ConnectionState.Open })
        {
            raw.sqlite3_reset(statement);
            raw.sqlite3_clear_bindings(statement);
            if (keeper.Keep(sql, this)) return;
        }
        Close();
    }

    /// <summary>Nobody uses it again.</summary>
    public void Close() => statement.Dispose();

    private Statement BindNull(int index)
    {
        Check(raw.sqlite3_bind_null(statement, index));
        return this;
    }

    private void Check(int result)
    {
        if (result != raw.SQLITE_OK) SqliteException.ThrowExceptionForRC(result, handle);
    }
}
