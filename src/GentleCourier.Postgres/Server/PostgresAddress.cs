using System.Data;
using System.Globalization;
using System.Net;
using GentleCourier.Engines;
using Npgsql;

namespace GentleCourier.Postgres;

/// <summary>Where a database is, and how to show that without its secrets.</summary>
internal sealed class PostgresAddress
{
    private const string Form = "an address is like postgres://USER@HOST:5432/DATABASE";

    private PostgresAddress(
        NpgsqlConnectionStringBuilder settings, string schema, IsolationLevel isolation, bool isTwoPhase)
    {
        Settings = settings;
        IsTwoPhase = isTwoPhase;
        Isolation = isolation;
        SchemaName = schema;
        var user = settings.Username is null ? "" : $"{Uri.EscapeDataString(settings.Username)}@";
        var isSocket = settings.Host!.StartsWith('/');
        string[] options = [.. isSocket ? [$"host={settings.Host}"] : Array.Empty<string>(),
            .. schema == DefaultSchema ? Array.Empty<string>() : [$"schema={schema}"]];
        DisplayName =
            $"postgres://{user}{(isSocket ? "" : settings.Host)}"
            + $"{(settings.Port == NpgsqlConnection.DefaultPort ? "" : $":{settings.Port}")}"
            + $"/{Uri.EscapeDataString(settings.Database!)}{(options.Length == 0 ? "" : $"?{string.Join(
                '&', options)}")}";
    }

    public const string DefaultSchema = "courier";

    /// <summary>With the password, where the address has one: do not show it.</summary>
    public NpgsqlConnectionStringBuilder Settings { get; }

    /// <summary>The schema of the library's tables: a lower-case identifier.</summary>
    public string SchemaName { get; }

    /// <summary>In which events are handled.</summary>
    public IsolationLevel Isolation { get; }

    /// <summary>
    /// Transactions in which events are added may end with <c>PREPARE TRANSACTION</c>, and so must not notify.
    /// </summary>
    public bool IsTwoPhase { get; }

    /// <summary>The address without its secrets and finer settings.</summary>
    public string DisplayName { get; }

    /// <summary>
    /// Server, port, database and schema, in one form: whoever writes the same in another way means the same.
    /// </summary>
    public string Place => string.Create(
        CultureInfo.InvariantCulture,
        $"postgres {Hosts()} {Settings.Port} {Uri.EscapeDataString(Settings.Database!)} {SchemaName}");

    private string Hosts() => string.Join(
        ',', Settings.Host!.ToLowerInvariant().Split(',', StringSplitOptions.TrimEntries)
            .Order(StringComparer.Ordinal));

    public bool HoldsPassword => Settings.Password is not null;

    /// <exception cref="CourierException">
    /// It cannot be an address of this engine; the message names what is wrong, and no secret.
    /// </exception>
    public static PostgresAddress Parse(EngineAddress address)
    {
        ArgumentNullException.ThrowIfNull(address);
        if (!address.Location.StartsWith("//", StringComparison.Ordinal))
            throw Wrong("the location must begin with //");
        var (rest, query) = Cut(address.Location[2..], '?');
        var (server, database) = Cut(rest, '/');
        // A password may hold an @ that nobody has escaped; a host cannot.
        var at = server.LastIndexOf('@');
        var (user, password) = at < 0 ? (null, null) : Cut(server[..at], ':');
        var (host, port) = SplitPort(server[(at + 1)..]);

        var settings = new NpgsqlConnectionStringBuilder();
        if (host.Length > 0) settings.Host = host;
        if (port is not null) settings.Port = port.Value;
        if (!string.IsNullOrEmpty(database)) settings.Database = Uri.UnescapeDataString(database);
        if (!string.IsNullOrEmpty(user)) settings.Username = Uri.UnescapeDataString(user);
        if (password is not null) settings.Password = Uri.UnescapeDataString(password);
        var schema = DefaultSchema;
        var isolation = IsolationLevel.ReadCommitted;
        var isTwoPhase = false;
        foreach (var option in (query ?? "").Split('&', StringSplitOptions.RemoveEmptyEntries))
        {
            var (name, value) = Cut(option, '=');
            name = Uri.UnescapeDataString(name);
            if (value is null) throw Wrong($"'{name}' has no value");
            if (name == "schema") schema = Uri.UnescapeDataString(value);
            else if (name == "isolation") isolation = IsolationOf(value);
            else if (name == "two-phase") isTwoPhase = IsYes(name, value);
            else Set(settings, name, Uri.UnescapeDataString(value));
        }

        if (string.IsNullOrEmpty(settings.Host)) throw Wrong("it names no host");
        if (string.IsNullOrEmpty(settings.Database)) throw Wrong("it names no database");
        if (!IsIdentifier(schema))
            throw Wrong(
            $"'{schema}' is not a schema's name: up to 40 lower-case letters, digits and _, starting with a letter");
        if (!settings.ShouldSerialize("SSL Mode") && !IsThisHost(settings.Host)) settings.SslMode = SslMode.VerifyFull;
        return new PostgresAddress(settings, schema, isolation, isTwoPhase);
    }

    private static void Set(NpgsqlConnectionStringBuilder settings, string name, string value)
    {
        try
        {
            // The rest of the world writes verify-full, the driver VerifyFull.
            settings[name] = name.Replace(" ", "", StringComparison.Ordinal)
                .Equals("sslmode", StringComparison.OrdinalIgnoreCase)
                ? value.Replace("-", "", StringComparison.Ordinal)
                : value;
        }
        catch (Exception e)
            when (e is ArgumentException or KeyNotFoundException or FormatException or InvalidCastException
                or OverflowException)
        {
            // What the driver says might repeat the value, and that might be a secret.
            throw Wrong($"the driver knows no setting '{name}', or not with this value");
        }
    }

    private static IsolationLevel IsolationOf(string value) => value switch
    {
        "read-committed" => IsolationLevel.ReadCommitted,
        "repeatable-read" => IsolationLevel.RepeatableRead,
        "serializable" => IsolationLevel.Serializable,
        _ => throw Wrong("isolation must be read-committed, repeatable-read or serializable"),
    };

    private static bool IsYes(string name, string value) => value switch
    {
        "true" => true,
        "false" => false,
        _ => throw Wrong($"{name} must be true or false"),
    };

    private static (string Host, int? Port) SplitPort(string server)
    {
        var colon = server.LastIndexOf(':');
        if (colon < 0 || server.EndsWith(']')) return (server.Trim('[', ']'), null);
        return int.TryParse(server[(colon + 1)..], NumberStyles.None, CultureInfo.InvariantCulture, out var port)
            && port is > 0 and < 65536
            ? (server[..colon].Trim('[', ']'), port)
            : throw Wrong("the port is not a number from 1 to 65535");
    }

    private static bool IsThisHost(string hosts) => hosts.Split(',').All(
        host => host.StartsWith('/') || host == "localhost"
            || (IPAddress.TryParse(host, out var address) && IPAddress.IsLoopback(address)));

    private static bool IsIdentifier(string name) =>
        name.Length is > 0 and <= 40 && char.IsAsciiLetterLower(name[0])
            && name.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c == '_');

    private static (string Head, string? Tail) Cut(string text, char separator) =>
        text.IndexOf(separator) is >= 0 and var at ? (text[..at], text[(at + 1)..]) : (text, null);

    private static CourierException Wrong(string what) =>
        new($"this is no address of a PostgreSQL database: {what}; {Form}");
}
