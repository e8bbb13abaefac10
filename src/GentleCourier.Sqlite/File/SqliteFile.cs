using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace GentleCourier.Sqlite;

/// <summary>One database file: how to open it, and what to say when that fails. Thread-safe.</summary>
internal sealed class SqliteFile
{
    /// <summary>How long a locked file is waited out before it is an error.</summary>
    public static readonly TimeSpan BusyLimit = TimeSpan.FromSeconds(30);

    /// <summary>What to say of a file that somebody else does not let go.</summary>
    public static readonly string LockedElsewhere =
        $"another process keeps it locked, for longer than {BusyLimit.TotalSeconds:0} s; find out which with "
        + "`fuser FILE`";

    // At rest; who reads more at once opens one for it.
    private const int MostReaders = 4;

    private const string NoDirectory = "make it, or check the path";

    private readonly string privateConnections;
    private readonly string pooledConnections;
    private readonly Stack<OwnConnection> readers = new();
    private FileIdentity? pooled, read;

    /// <exception cref="CourierException">The location cannot be a file that several connections share.</exception>
    public SqliteFile(string location)
    {
        if (location.Contains(":memory:", StringComparison.OrdinalIgnoreCase) || location.StartsWith(
            "file:", StringComparison.OrdinalIgnoreCase))
            throw new CourierException(
                $"sqlite:{location} is not a file path; stores and brokers need a file that several connections can "
                + "share");
        if (location.Contains('\0', StringComparison.Ordinal))
            throw new CourierException(
                "the path of a sqlite: address has a NUL character in it; no file has such a name");
        Path = System.IO.Path.GetFullPath(location);
        var settings = new SqliteConnectionStringBuilder
        {
            DataSource = Path,
            Mode = SqliteOpenMode.ReadWrite,
            // The driver tries again by itself for this long, but only after the connection's own patience is at its
            // end.
            DefaultTimeout = 1,
            Pooling = false,
        };
        privateConnections = settings.ToString();
        settings.Pooling = true;
        pooledConnections = settings.ToString();
        settings.Mode = SqliteOpenMode.ReadWriteCreate;
        ConnectionString = settings.ToString();
    }

    public string Path { get; }

    /// <summary>For connections that the service opens by itself, and by which it may make the file.</summary>
    public string ConnectionString { get; }

    public string DisplayName => $"sqlite:{Path}";

    /// <summary>Which file is at the path now; null where there is none.</summary>
    public FileIdentity? Identity => FileIdentity.Of(Path);

    /// <summary>What to say when that is another one than was opened.</summary>
    public CourierException Replaced() => new(
        $"{DisplayName} is no longer the file that was opened: somebody has deleted or replaced it; nothing is written "
        + "into the old one, and the one that is there now is opened instead")
    {
        IsTransient = true,
    };

    /// <summary>Opens a connection that stays open for long; the caller disposes it.</summary>
    public OwnConnection Open() => Open(new OwnConnection(privateConnections));

    /// <summary>Opens a connection for the service, which gives it back to the driver's pool.</summary>
    public SqliteConnection OpenPooled(Func<string, SqliteConnection> make)
    {
        // What is at rest in the pool may have another file open.
        var now = Identity;
        if (now != pooled)
        {
            if (pooled is not null) ClosePool();
            pooled = now;
        }
        return Open(make(pooledConnections));
    }

    /// <summary>Reads on a connection that is kept for that, with its statements.</summary>
    /// <param name="act">Leaves no transaction behind.</param>
    public T Read<T>(Func<SqliteConnection, T> act)
    {
        var now = Identity;
        var reader = TakeReader(now) ?? Open();
        try
        {
            var result = act(reader);
            if (!Rests(reader, now)) reader.Dispose();
            return result;
        }
        catch
        {
            // One in doubt is not used again.
            reader.Dispose();
            throw;
        }
    }

    private OwnConnection? TakeReader(FileIdentity? now)
    {
        lock (readers)
        {
            // Those at rest may have another file open.
            if (now != read) CloseReaders();
            read = now;
            return readers.TryPop(out var reader) ? reader : null;
        }
    }

    private bool Rests(OwnConnection reader, FileIdentity? opened)
    {
        lock (readers)
        {
            if (opened is null || opened != read || readers.Count >= MostReaders) return false;
            readers.Push(reader);
            return true;
        }
    }

    private void CloseReaders()
    {
        lock (readers)
        {
            foreach (var reader in readers) reader.Dispose();
            readers.Clear();
            read = null;
        }
    }

    /// <summary>Makes the file where there is none, in a directory that must exist.</summary>
    public void Create()
    {
        if (File.Exists(Path)) return;
        if (Directory.Exists(Path)) throw IsDirectory();
        try
        {
            using (new FileStream(Path, FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.ReadWrite))
            {
            }
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw Problem(e, "create");
        }
    }

    /// <summary>Closes connections that are at rest, so that nothing keeps the file open.</summary>
    public void ClosePool()
    {
        CloseReaders();
        foreach (var settings in new[] { pooledConnections, ConnectionString })
        {
            using var connection = new SqliteConnection(settings);
            SqliteConnection.ClearPool(connection);
        }
    }

    private T Open<T>(T connection)
        where T : SqliteConnection
    {
        try
        {
            if (Directory.Exists(Path)) throw IsDirectory();
            if (!File.Exists(Path)) throw IsMissing();
            connection.Open();
            SetUp(connection);
            return connection;
        }
        catch (Exception e)
        {
            connection.Dispose();
            throw e is CourierException ? e : Problem(e, "open");
        }
    }

    private CourierException IsDirectory() => new($"{DisplayName} is a directory; name a database file in it");

    private CourierException IsMissing()
    {
        var what = $"{DisplayName} does not exist";
        return Directory.Exists(System.IO.Path.GetDirectoryName(Path))
            ? new($"{what}; check the path, or make it with `courier schema apply`")
            {
                IsAboutTables = true, IsNotMade = true, WithoutAdvice = what,
            }
            : new($"{what}, and neither does its directory; {NoDirectory}") { IsAboutTables = true };
    }

    /// <summary>Makes an open connection as patient and as safe as all have to be.</summary>
    public void SetUp(SqliteConnection connection)
    {
        try
        {
            Patience.Give(connection, BusyLimit);
            // FULL is what makes a commit survive a loss of power in WAL mode; some builds of SQLite default to less.
            Execute(connection, "PRAGMA synchronous = FULL");
        }
        catch (SqliteException e)
        {
            throw Problem(e, "open");
        }
    }

    /// <summary>Runs constant statements that return nothing.</summary>
    public static void Execute(SqliteConnection connection, string sql)
    {
        var result = raw.sqlite3_exec(connection.Handle, sql);
        if (result != raw.SQLITE_OK) SqliteException.ThrowExceptionForRC(result, connection.Handle);
    }

    /// <summary>What went wrong, for a person: what was tried, on which file, and what to do next.</summary>
    public CourierException Problem(Exception e, string tried)
    {
        if (e is CourierException known) return known;
        var what = e is SqliteException sqlite ? sqlite.SqliteErrorCode switch
        {
            raw.SQLITE_CANTOPEN => Directory.Exists(System.IO.Path.GetDirectoryName(Path))
                ? "the file cannot be opened; check that this user may read and write it and its directory"
                : $"its directory does not exist; {NoDirectory}",
            raw.SQLITE_NOTADB =>
                "it is not a SQLite database; check the path, or restore the file from a backup if it was one",
            raw.SQLITE_CORRUPT =>
                "the file is damaged; restore it from a backup, or save what is left with `sqlite3 FILE .recover`",
            raw.SQLITE_BUSY or raw.SQLITE_LOCKED => LockedElsewhere,
            raw.SQLITE_READONLY or raw.SQLITE_PERM =>
                "it cannot be written; check that this user may write the file and its directory",
            raw.SQLITE_FULL => "the disk is full; free some space, nothing that was committed is lost",
            raw.SQLITE_IOERR => $"reading or writing failed ({sqlite.Message}); check the disk",
            raw.SQLITE_ERROR when sqlite.Message.Contains("no such table: courier_", StringComparison.Ordinal)
                || sqlite.Message.Contains("no such column", StringComparison.Ordinal) =>
                    "the tables of Gentle Courier are not in it; make them with `courier schema apply`",
            _ => sqlite.Message,
        }
        : e is UnauthorizedAccessException ? "this user may not read and write it"
        : e is DirectoryNotFoundException ? $"its directory does not exist; {NoDirectory}"
        : e.Message;
        return new CourierException($"cannot {tried} {DisplayName}: {what}", e) { IsTransient = IsTransient(e) };
    }

    /// <summary>Whether somebody else has the file's lock.</summary>
    public static bool IsLocked(Exception e) =>
        e is SqliteException { SqliteErrorCode: raw.SQLITE_BUSY or raw.SQLITE_LOCKED };

    /// <summary>Whether the file, its disk or others that use it are at fault, and not what was asked.</summary>
    public static bool IsTransient(Exception e) => e is SqliteException
    {
        SqliteErrorCode: raw.SQLITE_BUSY or raw.SQLITE_LOCKED or raw.SQLITE_FULL or raw.SQLITE_IOERR,
    };
}
