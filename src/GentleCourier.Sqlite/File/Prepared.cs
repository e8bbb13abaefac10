using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>A connection, and the statements that are prepared on it; they are closed together.</summary>
internal sealed class Prepared(SqliteConnection connection) : IDisposable
{
    private readonly List<Statement> statements = [];

    public SqliteConnection Connection => connection;

    public Statement Add(string sql)
    {
        var statement = new Statement(connection, sql);
        statements.Add(statement);
        return statement;
    }

    /// <summary>Writes in one transaction; one that throws leaves it to whoever made the connection.</summary>
    public T InTransaction<T>(Func<T> write)
    {
        SqliteFile.Execute(connection, "BEGIN IMMEDIATE");
        var result = write();
        SqliteFile.Execute(connection, "COMMIT");
        return result;
    }

    public void Dispose()
    {
        statements.ForEach(statement => statement.Dispose());
        connection.Dispose();
    }
}
