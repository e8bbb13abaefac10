using System.Net.Sockets;
using GentleCourier.Amqp.Transport;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Reaching;

/// <summary>Reaches a broker at one of its hosts: a socket, TLS where it is asked for, SASL, a connection.</summary>
internal static class Reach
{
    /// <summary>Tries hosts in turn, until one lets itself be connected to.</summary>
    /// <param name="address">Where it is.</param>
    /// <param name="first">Which of the hosts is tried first.</param>
    /// <param name="settings">Makes the settings of a connection to a host.</param>
    /// <param name="cancellationToken">Ends the wait.</param>
    /// <returns>The connection, and which host it goes to.</returns>
    /// <exception cref="AmqpException">None does; the message says of each why.</exception>
    public static async Task<(Connection Connection, int Host)> AnyAsync(
        AmqpAddress address, int first, Func<PeerHost, ConnectionSettings> settings,
            CancellationToken cancellationToken)
    {
        var problems = new List<AmqpException>();
        for (var i = 0; i < address.Hosts.Count; i++)
        {
            var host = (first + i) % address.Hosts.Count;
            try
            {
                var one = address.Hosts[host];
                var connection = await OneAsync(
                    address, one, settings(one) with { HostName = address.HostName ?? one.Name }, cancellationToken)
                    .ConfigureAwait(false);
                return (connection, host);
            }
            catch (AmqpException e)
            {
                problems.Add(new AmqpException($"{address.Hosts[host]}: {e.Message}", e.Condition, e));
            }
        }
        throw new AmqpException(
            $"cannot connect to {address.DisplayName}: {string.Join("; ", problems.Select(p => p.Message))}",
            // Where one of several may let one in later, it is worth another try.
            problems.TrueForAll(p => !p.IsTransient) ? problems[0].Condition : null, problems[^1]);
    }

    private static async Task<Connection> OneAsync(
        AmqpAddress address, PeerHost host, ConnectionSettings settings, CancellationToken cancellationToken)
    {
        using var limit = new CancellationTokenSource(settings.AnswerWithin, settings.Clock);
        using var either = CancellationTokenSource.CreateLinkedTokenSource(limit.Token, cancellationToken);
        var socket = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        try
        {
            return await OpenAsync(socket, address, host, settings, either.Token).ConfigureAwait(false);
        }
        catch (Exception e)
        {
            socket.Dispose();
            cancellationToken.ThrowIfCancellationRequested();
            throw limit.IsCancellationRequested
                ? new AmqpException($"it has not let us in within {settings.AnswerWithin.TotalSeconds:0.#} s", null, e)
                : Problem(e);
        }
    }

    private static async Task<Connection> OpenAsync(
        Socket socket, AmqpAddress address, PeerHost host, ConnectionSettings settings,
        CancellationToken cancellationToken)
    {
        var sasl = SaslOf(address);
        await socket.ConnectAsync(host.Name, host.Port, cancellationToken).ConfigureAwait(false);
        Stream stream = new NetworkStream(socket, ownsSocket: true);
        if (address.IsSecure)
            stream = await Tls.WrapAsync(stream, host.Name, address, cancellationToken).ConfigureAwait(false);
        var whom = address.User is { } user ? $"the user '{user}'" : "this program";
        await sasl.ShowAsync(stream, settings.HostName, whom, cancellationToken).ConfigureAwait(false);
        return await Connection.OpenAsync(stream, settings, cancellationToken).ConfigureAwait(false);
    }

    private static Sasl SaslOf(AmqpAddress address)
    {
        if (address.User is not { } user) return address.Certificate is null ? Sasl.Anonymous : Sasl.External;
        if (address.PasswordFile is not { } file)
        {
            return Sasl.Plain(
                user, address.Password ?? Environment.GetEnvironmentVariable(AmqpAddress.PasswordVariable) ?? "");
        }
        try
        {
            return Sasl.Plain(user, File.ReadAllText(file).TrimEnd('\r', '\n'));
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new AmqpException($"the password-file '{file}' cannot be read: {Words.Of(e)}", null, e);
        }
    }

    private static AmqpException Problem(Exception e) => e switch
    {
        AmqpException ours => ours,
        SocketException { SocketErrorCode: SocketError.ConnectionRefused } =>
            new("nothing listens there; check host and port, and whether the broker runs", null, e),
        SocketException { SocketErrorCode: SocketError.HostNotFound or SocketError.TryAgain or SocketError.NoData } =>
            new("there is no such host; check the name", null, e),
        EndOfStreamException =>
            new("it hung up at once; check host and port, and whether it speaks AMQP 1.0 and wants TLS", null, e),
        DecodeException => new($"it does not keep to AMQP 1.0: {e.Message}", null, e),
        _ => new(Words.Of(e), null, e),
    };
}
