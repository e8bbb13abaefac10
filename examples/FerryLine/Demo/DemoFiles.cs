using GentleCourier.Engines;

namespace FerryLine.Demo;

/// <summary>The folder in which one run keeps its databases and logs; deleted at the end unless it was asked to be kept.</summary>
internal sealed class DemoFiles : IDisposable
{
    private readonly bool keep;

    public DemoFiles(DirectoryInfo? keepIn)
    {
        keep = keepIn is not null;
        if (keepIn is { Exists: true } && keepIn.EnumerateFileSystemInfos().Any())
            throw new IOException($"{keepIn.FullName} is not empty; name a new folder, so that nothing of an earlier run is mixed in");
        Folder = keepIn is null ? Directory.CreateTempSubdirectory("ferryline-").FullName : Directory.CreateDirectory(keepIn.FullName).FullName;
    }

    public string Folder { get; }

    /// <summary>Where the day's files are.</summary>
    public string Data { get; set; } = Path.Combine(AppContext.BaseDirectory, "Data");

    public EngineAddress Broker => new("sqlite", Path.Combine(Folder, "broker.db"));

    public EngineAddress Store(string service) => new("sqlite", Path.Combine(Folder, $"{service.ToLowerInvariant()}.db"));

    public void Dispose()
    {
        if (!keep) Directory.Delete(Folder, recursive: true);
    }
}
