using System.Globalization;
using GentleCourier.Engines;
using GentleCourier.Events;

namespace GentleCourier.Amqp.Reaching;

/// <summary>A peer's host and port.</summary>
internal readonly record struct PeerHost(string Name, int Port)
{
    public override string ToString() =>
        Name.Contains(':', StringComparison.Ordinal) ? $"[{Name}]:{Port}" : $"{Name}:{Port}";
}

/// <summary>
/// Where a broker is, and how to show that without its secrets: <c>amqp://USER@HOST:PORT,HOST:PORT/?NAME=VALUE</c>;
/// with <c>amqps</c> over TLS.
/// </summary>
internal sealed class AmqpAddress
{
    public const string Scheme = "amqp", SecureScheme = "amqps";

    /// <summary>Where the password is looked for that is not in the address.</summary>
    public const string PasswordVariable = "AMQP_PASSWORD";

    private const string QueueMark = "{queue}";

    private const string Form = "an address is like amqps://USER@HOST:PORT,HOST:PORT/?authority=FILE";

    /// <summary>Tried in turn.</summary>
    public required IReadOnlyList<PeerHost> Hosts { get; init; }

    public required bool IsSecure { get; init; }

    public string? User { get; init; }

    /// <summary>In the address itself; do not show it.</summary>
    public string? Password { get; init; }

    /// <summary>A file that holds the password alone.</summary>
    public string? PasswordFile { get; init; }

    /// <summary>A PEM file with those whose word is taken for who a peer is; null: this machine's.</summary>
    public string? Authority { get; init; }

    /// <summary>PEM files that show who one is.</summary>
    public string? Certificate { get; init; }

    public string? Key { get; init; }

    /// <summary>The host that is meant, where a peer stands for several; null: the one that is connected to.</summary>
    public string? HostName { get; init; }

    /// <summary>How the broker names a queue, with <c>{queue}</c> in it.</summary>
    public string QueueAddress { get; init; } = QueueMark;

    /// <summary>
    /// How the broker names the place for what a receiver without a store sets aside; null: there is none.
    /// </summary>
    public string? DeadLetterAddress { get; init; }

    /// <summary>The broker's name for a queue; what is no queue's name is one already.</summary>
    public string Of(string queue) =>
        Names.IsQueue(queue) ? QueueAddress.Replace(QueueMark, queue, StringComparison.Ordinal) : queue;

    /// <summary>The address without its secrets.</summary>
    public string DisplayName =>
        $"{(IsSecure ? SecureScheme : Scheme)}://{(User is null ? "" : $"{Uri.EscapeDataString(User)}@")}"
        + string.Join(',', Hosts);

    /// <exception cref="CourierException">
    /// It cannot be an address of this engine; the message names what is wrong, and no secret.
    /// </exception>
    public static AmqpAddress Parse(EngineAddress address)
    {
        ArgumentNullException.ThrowIfNull(address);
        if (!address.Location.StartsWith("//", StringComparison.Ordinal)) throw Wrong(
            "the location must begin with //");
        var (rest, query) = Cut(address.Location[2..], '?');
        // A password may hold an @ or a / that nobody has escaped; a host cannot.
        var at = rest.LastIndexOf('@');
        var (servers, path) = Cut(rest[(at + 1)..], '/');
        if (!string.IsNullOrEmpty(path)) throw Wrong("nothing follows behind the hosts but ?NAME=VALUE");
        var (user, password) = at < 0 ? (null, null) : Cut(rest[..at], ':');
        var isSecure = address.Scheme == SecureScheme;
        var options = OptionsOf(query ?? "");
        var parsed = new AmqpAddress
        {
            Hosts = [.. servers.Split(',').Select(server => HostOf(server, isSecure ? 5671 : 5672))],
            IsSecure = isSecure,
            User = string.IsNullOrEmpty(user) ? null : Uri.UnescapeDataString(user),
            Password = password is null ? null : Uri.UnescapeDataString(password),
            PasswordFile = Taken(options, "password-file"),
            Authority = Taken(options, "authority"),
            Certificate = Taken(options, "certificate"),
            Key = Taken(options, "key"),
            HostName = Taken(options, "hostname"),
            QueueAddress = Taken(options, "queue") ?? QueueMark,
            DeadLetterAddress = Taken(options, "dead-letters"),
        };
        if (options.Count > 0)
            throw Wrong(
                $"there is no setting '{options.Keys.First()}'; there are authority, certificate, dead-letters, "
                + "hostname, key, password-file and queue");
        parsed.Check();
        return parsed;
    }

    private void Check()
    {
        if (Password is not null && PasswordFile is not null) throw Wrong("it has a password and a password-file");
        if ((Password ?? PasswordFile) is not null && User is null) throw Wrong("it has a password, and nobody's");
        if (Key is not null && Certificate is null) throw Wrong("it has a key without a certificate");
        if (!QueueAddress.Contains(QueueMark, StringComparison.Ordinal)
            || DeadLetterAddress?.Contains(QueueMark, StringComparison.Ordinal) == false)
            throw Wrong($"queue and dead-letters say how the broker names a queue, with {QueueMark} in it");
        if (!IsSecure && (Authority ?? Certificate) is not null)
            throw Wrong($"authority and certificate are for {SecureScheme}, which goes over TLS");
    }

    private static Dictionary<string, string> OptionsOf(string query)
    {
        var options = new Dictionary<string, string>();
        foreach (var option in query.Split('&', StringSplitOptions.RemoveEmptyEntries))
        {
            var (name, value) = Cut(option, '=');
            if (string.IsNullOrEmpty(value)) throw Wrong($"'{name}' has no value");
            if (!options.TryAdd(Uri.UnescapeDataString(name), Uri.UnescapeDataString(value)))
                throw Wrong($"'{name}' stands there twice");
        }
        return options;
    }

    private static string? Taken(Dictionary<string, string> options, string name) =>
        options.Remove(name, out var value) ? value : null;

    private static PeerHost HostOf(string server, int standard)
    {
        var colon = server.LastIndexOf(':');
        var hasPort = colon >= 0 && !server.EndsWith(']');
        var name = (hasPort ? server[..colon] : server).Trim('[', ']');
        if (name.Length == 0) throw Wrong("a host has no name");
        if (!hasPort) return new(name, standard);
        return int.TryParse(server[(colon + 1)..], NumberStyles.None, CultureInfo.InvariantCulture, out var port)
            && port is > 0 and < 65536
            ? new(name, port) : throw Wrong("a port is not a number from 1 to 65535");
    }

    private static (string Head, string? Tail) Cut(string text, char separator) =>
        text.IndexOf(separator) is >= 0 and var at ? (text[..at], text[(at + 1)..]) : (text, null);

    private static CourierException Wrong(string what) =>
        new($"this is no address of an AMQP 1.0 broker: {what}; {Form}");
}
