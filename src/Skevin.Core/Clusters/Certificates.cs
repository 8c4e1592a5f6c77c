using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace Skevin.Core.Clusters;

/// <summary>The certificate an entry point shows.</summary>
/// <param name="Secret">Secret it is kept in; only the certificate itself is looked at, never the key.</param>
/// <param name="Hosts">Hosts it is meant for.</param>
/// <param name="NotAfter">When it ends; null where it could not be read.</param>
/// <param name="Level">How it stands.</param>
/// <param name="Trouble">What is wrong, with what to do; null where it is well.</param>
public sealed record CertificateState(string Namespace, string Secret, IReadOnlyList<string> Hosts, DateTimeOffset? NotAfter, HealthLevel Level, string? Trouble);

/// <summary>Judges certificates by their dates and names. Who signed them is for the reader's own machine to say.</summary>
public static class Certificates
{
    private static readonly TimeSpan Soon = TimeSpan.FromDays(14);

    /// <summary>Judges one.</summary>
    /// <param name="ns">Its namespace.</param>
    /// <param name="secret">Its secret.</param>
    /// <param name="hosts">Hosts it is meant for.</param>
    /// <param name="pem">The certificate, PEM; null where there is no such secret.</param>
    /// <param name="now">The time.</param>
    public static CertificateState Judge(string ns, string secret, IReadOnlyList<string> hosts, string? pem, DateTimeOffset now)
    {
        CertificateState Found(DateTimeOffset? until, HealthLevel level, string? trouble) => new(ns, secret, hosts, until, level, trouble);
        if (pem is null)
            return Found(null, HealthLevel.Critical, $"Its certificate should be in secret {secret}, which is not there.");
        try
        {
            using var certificate = X509Certificate2.CreateFromPem(pem);
            var (from, until) = (new DateTimeOffset(certificate.NotBefore.ToUniversalTime()), new DateTimeOffset(certificate.NotAfter.ToUniversalTime()));
            var others = hosts.Where(host => !certificate.MatchesHostname(host, allowCommonName: false)).ToArray();
            return until <= now ? Found(until, HealthLevel.Critical, $"Its certificate in {secret} expired on {until:yyyy-MM-dd HH:mm} UTC: browsers and callers refuse it. Renew it and replace the secret.")
                : from > now ? Found(until, HealthLevel.Critical, $"Its certificate in {secret} is not valid before {from:yyyy-MM-dd HH:mm} UTC. Replace it, or look at the clocks.")
                : others.Length > 0 ? Found(until, HealthLevel.Major, $"Its certificate in {secret} is not for {string.Join(", ", others)}. Have one made that names it.")
                : until - now < Soon ? Found(until, HealthLevel.Minor, $"Its certificate in {secret} expires on {until:yyyy-MM-dd HH:mm} UTC, in {(until - now).TotalDays:0} d. Renew it.")
                : Found(until, HealthLevel.Clear, null);
        }
        catch (CryptographicException broken)
        {
            return Found(null, HealthLevel.Critical, $"What secret {secret} holds is no certificate: {broken.Message}");
        }
    }
}
