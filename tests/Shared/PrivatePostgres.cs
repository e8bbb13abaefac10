using System.Diagnostics;

namespace GentleCourier.Testing;

/// <summary>A PostgreSQL server of one test run, in a temporary folder; stopped and deleted at the end.</summary>
public sealed class PrivatePostgres : IDisposable
{
    private readonly string[] settings;

    /// <summary>Starts it. Without synchronising the disk: the tests kill processes, not machines.</summary>
    public PrivatePostgres(params string[] settings)
    {
        this.settings = ["fsync=off", .. settings];
        Start();
        Password = File.ReadAllText(Path.Combine(Folder, "password")).Trim();
    }

    public string Folder { get; } = Directory.CreateTempSubdirectory("courier-postgres-").FullName;

    /// <summary>Its address without a database, such as <c>postgres://courier@127.0.0.1:24614</c>.</summary>
    public string Address { get; private set; } = "";

    public string Password { get; }

    public int Port => new Uri(Address).Port;

    /// <summary>Starts it again after <see cref="Stop"/>, at the same address.</summary>
    public void Start() => Address = Run(["start", Folder, .. settings]).Trim();

    /// <summary>Stops it; immediately is as a crash would.</summary>
    public void Stop(bool immediately) => Run(["stop", Folder, immediately ? "immediate" : "fast"]);

    public void Dispose()
    {
        if (File.Exists(Path.Combine(Folder, "data", "postmaster.pid"))) Stop(immediately: true);
        Directory.Delete(Folder, recursive: true);
    }

    private static string Run(string[] arguments)
    {
        var root = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(root, "eng", "postgres.sh"))) root = Path.GetDirectoryName(root) ?? throw new FileNotFoundException("eng/postgres.sh");
        // Its output goes to files: the server inherits them, and would keep a pipe open for as long as it lives.
        var output = Path.GetTempFileName();
        try
        {
            using var process = Process.Start("bash", ["-c", "exec \"$@\" >" + output + " 2>&1 </dev/null", "-", Path.Combine(root, "eng", "postgres.sh"), .. arguments]);
            if (!process.WaitForExit(TimeSpan.FromMinutes(5))) process.Kill(entireProcessTree: true);
            var said = File.ReadAllText(output);
            return process.ExitCode == 0 ? said : throw new InvalidOperationException($"eng/postgres.sh {arguments[0]} failed: {said}");
        }
        finally
        {
            File.Delete(output);
        }
    }
}
