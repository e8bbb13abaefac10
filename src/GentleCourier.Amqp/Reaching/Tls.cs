using System.Net.Security;
using System.Security.Authentication;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace GentleCourier.Amqp.Reaching;

/// <summary>TLS, in which the peer always has to show who it is.</summary>
internal static class Tls
{
    /// <summary>Wraps a stream, once the peer has shown that it is the host that is meant.</summary>
    /// <exception cref="AmqpException">It is not, or a file of the address cannot be used.</exception>
    public static async Task<Stream> WrapAsync(
        Stream stream, string host, AmqpAddress address, CancellationToken cancellationToken)
    {
        var (hasShown, why) = (false, "");
        var options = new SslClientAuthenticationOptions
        {
            TargetHost = host,
            RemoteCertificateValidationCallback = (_, _, chain, problems) =>
            {
                (hasShown, why) = (true, WhyNot(chain, problems));
                return problems == SslPolicyErrors.None;
            },
        };
        if (address.Authority is { } authority)
        {
            var policy = new X509ChainPolicy
            {
                TrustMode = X509ChainTrustMode.CustomRootTrust, RevocationMode = X509RevocationMode.NoCheck,
            };
            FromFile(authority, () => policy.CustomTrustStore.ImportFromPemFile(authority));
            options.CertificateChainPolicy = policy;
        }
        if (address.Certificate is { } certificate)
        {
            X509Certificate2? own = null;
            FromFile(certificate, () => own = X509Certificate2.CreateFromPemFile(certificate, address.Key));
            options.ClientCertificates = [own!];
        }
        var secure = new SslStream(stream);
        try
        {
            await secure.AuthenticateAsClientAsync(options, cancellationToken).ConfigureAwait(false);
            return secure;
        }
        catch (AuthenticationException e) when (!hasShown)
        {
            throw new AmqpException(
                $"it does not answer in TLS; check whether the port is the one for TLS, or is meant as amqp:// "
                + $"({Words.Of(e)})", null, e);
        }
        catch (AuthenticationException e)
        {
            throw new AmqpException(
                $"its certificate was not accepted: it must be made for the host '{host}', for this day, by an "
                + $"authority that this machine or the address's 'authority' knows ({(why == "" ? Words.Of(e) : why)})",
                null, e);
        }
    }

    private static string WhyNot(X509Chain? chain, SslPolicyErrors problems)
    {
        List<string> all = [];
        if (problems.HasFlag(SslPolicyErrors.RemoteCertificateNameMismatch)) all.Add("it is made for another host");
        foreach (var status in chain?.ChainStatus ?? [])
            all.Add($"{status.Status}: {Words.Line(status.StatusInformation).Trim()}");
        return string.Join(", ", all);
    }

    private static void FromFile(string file, Action read)
    {
        try
        {
            read();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or CryptographicException)
        {
            throw new AmqpException($"'{file}' cannot be used: {Words.Of(e)}", null, e);
        }
    }
}
