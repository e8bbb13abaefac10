using System.Runtime.CompilerServices;
using GentleCourier.Engines;
using Microsoft.Data.Sqlite;

namespace GentleCourier.Sqlite;

/// <summary>Looks a file over.</summary>
internal static class Examination
{
    private const long LittleSpace = 1L << 30;

    /// <param name="file">The file.</param>
    /// <param name="schema">Of its tables.</param>
    /// <param name="clock">Looks at the clock that it goes by; null: it keeps none.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    public static async IAsyncEnumerable<Check> OfAsync(
        SqliteFile file, Schema schema, Func<SqliteConnection, Check>? clock,
        [EnumeratorCancellation] CancellationToken cancellationToken)
    {
        SqliteConnection? connection = null;
        try
        {
            var opened = await TryAsync("file", () =>
            {
                connection = file.Open();
                return Check.Good("file", $"{file.Path} can be opened, {Size(new FileInfo(file.Path).Length)}");
            }).WaitAsync(cancellationToken).ConfigureAwait(false);
            yield return opened;
            if (connection is not { } open) yield break;
            yield return await TryAsync("rights", () => Rights(open, file)).WaitAsync(cancellationToken)
                .ConfigureAwait(false);
            var tables = await TryAsync("tables", () =>
            {
                schema.Check(open, file);
                return Check.Good("tables", "are up to date");
            }).WaitAsync(cancellationToken).ConfigureAwait(false);
            yield return tables;
            if (tables.Result == CheckResult.Good)
                yield return await TryAsync("journal", () => Journal(open)).WaitAsync(cancellationToken)
                    .ConfigureAwait(false);
            if (tables.Result == CheckResult.Good && clock is not null)
                yield return await TryAsync("clock", () => clock(open)).WaitAsync(cancellationToken)
                    .ConfigureAwait(false);
            yield return await TryAsync("disk", () => Disk(file)).WaitAsync(cancellationToken).ConfigureAwait(false);
        }
        finally
        {
            connection?.Dispose();
        }

        Task<Check> TryAsync(string name, Func<Check> look) => Task.Run(
            () =>
            {
                try
                {
                    return look();
                }
                catch (Exception e) when (e is CourierException or SqliteException or IOException
                    or UnauthorizedAccessException)
                {
                    return Check.Wrong(name, file.Problem(e, "look into").Message);
                }
            },
            CancellationToken.None);
    }

    /// <summary>Taking the lock of the only writer, and giving it back, writes nothing.</summary>
    private static Check Rights(SqliteConnection connection, SqliteFile file)
    {
        SqliteFile.Execute(connection, "BEGIN IMMEDIATE");
        SqliteFile.Execute(connection, "ROLLBACK");
        return Check.Good("rights", $"{Environment.UserName} may read and write it");
    }

    private static Check Journal(SqliteConnection connection)
    {
        using var command = connection.CreateCommand();
        command.CommandText = "PRAGMA journal_mode";
        return command.ExecuteScalar() is "wal" ? Check.Good("journal", "is a write-ahead log")
            : Check.Wrong("journal", "is not a write-ahead log, so that readers and the writer wait for each other; "
                + "say PRAGMA journal_mode = WAL with sqlite3, while no service runs");
    }

    private static Check Disk(SqliteFile file)
    {
        var drive = new DriveInfo(file.Path);
        var left = $"{Size(drive.AvailableFreeSpace)} are free on its disk ({drive.DriveFormat})";
        if (drive.DriveFormat.StartsWith("nfs", StringComparison.Ordinal)
            || drive.DriveFormat is "cifs" or "smb" or "smb2" or "smb3" or "9p" or "fuse.sshfs")
            return Check.Wrong("disk", $"{left}: SQLite's locks do not work on a network's file system; move the file");
        return drive.AvailableFreeSpace < LittleSpace
            ? Check.Wrong("disk", $"only {left}; free some before it is full") : Check.Good("disk", left);
    }

    private static string Size(long bytes) => bytes switch
    {
        < 1 << 20 => FormattableString.Invariant($"{bytes / 1024.0:0} kB"),
        < 1L << 30 => FormattableString.Invariant($"{bytes / 1048576.0:0.0} MB"),
        _ => FormattableString.Invariant($"{bytes / 1073741824.0:0.0} GB"),
    };
}
