using GentleCourier.Engines;

namespace GentleCourier.Testing;

/// <summary>Where the stores of a trial's services are, and their broker.</summary>
internal abstract class Places : IAsyncDisposable
{
    /// <summary>An address that the trial has made.</summary>
    public static EngineAddress Parse(string made) =>
        EngineAddress.TryParse(made, out var address) ? address : throw new ArgumentException(made, nameof(made));

    public static Places For(TrialOptions options) => options switch
    {
        { Database: { } database } => new GivenPlace(database),
        { Server: { } server } => new ServerPlaces(server),
        _ => new FilePlaces(),
    };

    /// <summary>The address of the broker.</summary>
    public abstract string Broker { get; }

    /// <summary>Their engines.</summary>
    public abstract IReadOnlyList<IEngine> Engines { get; }

    /// <summary>The address of a service's store.</summary>
    public abstract string StoreOf(string service);

    public abstract ValueTask DisposeAsync();
}

/// <summary>
/// SQLite files in a folder of their own: in memory, where the system has a file system there. A folder that a killed
/// run has left is removed by a later one.
/// </summary>
internal sealed class FilePlaces : Places
{
    private const string Prefix = "courier-trial-";
    private const string Memory = "/dev/shm";

    private static readonly TimeSpan LeftAfter = TimeSpan.FromHours(1);
    private static int hasCleared;

    private readonly string folder;

    public FilePlaces()
    {
        var parent = Directory.Exists(Memory) ? Memory : Path.GetTempPath();
        if (Interlocked.Exchange(ref hasCleared, 1) == 0) Clear(parent);
        folder = Path.Combine(parent, $"{Prefix}{Guid.NewGuid():N}");
        Directory.CreateDirectory(folder);
    }

    public override string Broker => $"sqlite:{Path.Combine(folder, "broker.db")}";

    public override IReadOnlyList<IEngine> Engines { get; } = [new Sqlite.SqliteEngine()];

    /// <remarks>The file is there, and empty: what makes the service's own tables may open it.</remarks>
    public override string StoreOf(string service)
    {
        var path = Path.Combine(folder, $"store-{service}.db");
        new FileStream(path, FileMode.OpenOrCreate, FileAccess.Write, FileShare.ReadWrite).Dispose();
        return $"sqlite:{path}";
    }

    public override ValueTask DisposeAsync()
    {
        Remove(folder);
        return ValueTask.CompletedTask;
    }

    private static void Clear(string parent)
    {
        foreach (var left in Directory.EnumerateDirectories(parent, $"{Prefix}*"))
            if (DateTime.UtcNow - Directory.GetLastWriteTimeUtc(left) > LeftAfter) Remove(left);
    }

    private static void Remove(string folder)
    {
        try
        {
            Directory.Delete(folder, recursive: true);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            // Another's, or in use: a later run finds it.
        }
    }
}
