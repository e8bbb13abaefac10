using Npgsql;

namespace GentleCourier.Servers;

/// <summary>
/// A PostgreSQL server in a folder of its own, for tests, examples and benchmarks; stopped and deleted at the end.
/// </summary>
public sealed class PrivatePostgres : IDisposable
{
    private readonly string[] settings;

    /// <param name="folder">A new or empty folder.</param>
    /// <param name="settings">Settings of the server, <c>name=value</c>.</param>
    public PrivatePostgres(string folder, params string[] settings)
    {
        Folder = folder;
        this.settings = settings;
        Start();
        Password = File.ReadAllText(Path.Combine(Folder, "password")).Trim();
    }

    private PrivatePostgres(string folder, PrivatePostgres of)
    {
        (Folder, settings, Password) = (folder, of.settings, of.Password);
        Address = Script.Run("postgres.sh", ["standby", folder, of.Folder, .. settings]).Trim();
    }

    /// <summary>A server that follows this one.</summary>
    /// <param name="folder">A new or empty folder.</param>
    public PrivatePostgres Standby(string folder) => new(folder, this);

    /// <summary>Has a standby take the place of a server that is stopped.</summary>
    public void TakeThePlaceOf(PrivatePostgres other) =>
        Address = Script.Run("postgres.sh", "promote", Folder, $"{other.Port}").Trim();

    public string Folder { get; }

    /// <summary>Its address without a database, such as <c>postgres://owner@127.0.0.1:24614</c>.</summary>
    public string Address { get; private set; } = "";

    public string Password { get; }

    public int Port => new Uri(Address).Port;

    /// <summary>Starts it again after <see cref="Stop"/>, at the same address.</summary>
    /// <param name="more">Further settings.</param>
    public void Start(params string[] more) => Address =
        Script.Run("postgres.sh", ["start", Folder, .. settings, .. more]).Trim();

    /// <summary>Stops it; immediately is as a crash would.</summary>
    public void Stop(bool immediately) => Script.Run(
        "postgres.sh", "stop", Folder, immediately ? "immediate" : "fast");

    public void Dispose()
    {
        if (File.Exists(Path.Combine(Folder, "data", "postmaster.pid"))) Stop(immediately: true);
        Directory.Delete(Folder, recursive: true);
    }

    /// <summary>Makes a database in it, and returns its address.</summary>
    public string Create(string database)
    {
        Execute($"CREATE DATABASE \"{database}\"");
        return $"{Address}/{database}";
    }

    /// <summary>Deletes a database, whoever is connected to it.</summary>
    public void Drop(string database) => Execute($"DROP DATABASE \"{database}\" WITH (FORCE)");

    /// <summary>A connection to a database, past the library.</summary>
    public NpgsqlConnection Open(string database)
    {
        var connection = new NpgsqlConnection(
            $"Host=127.0.0.1;Port={Port};Username=owner;Password={Password};Pooling=false;Database={database}");
        connection.Open();
        return connection;
    }

    private void Execute(string sql)
    {
        using var connection = Open("postgres");
        using var command = new NpgsqlCommand(sql, connection);
        command.ExecuteNonQuery();
    }
}
