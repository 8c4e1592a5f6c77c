using System.Security.Cryptography;
using System.Text;

namespace Skevin.Core.Alarms.Telling;

/// <summary>Signs what is posted to a hook, so that the receiver knows who it is from and that it is whole. Source: Standard Webhooks specification, "Signature scheme", symmetric (from memory).</summary>
public static class HookSignature
{
    /// <summary>Header with the message's id.</summary>
    public const string Id = "webhook-id";

    /// <summary>Header with the time of the attempt, seconds since the epoch.</summary>
    public const string Timestamp = "webhook-timestamp";

    /// <summary>Header with the signature.</summary>
    public const string Signature = "webhook-signature";

    private const string Prefix = "whsec_";

    /// <summary>Makes a new secret.</summary>
    public static string NewSecret() => Prefix + Convert.ToBase64String(RandomNumberGenerator.GetBytes(32));

    /// <summary>The signature: version, and HMAC-SHA256 over id, time and body joined by dots, in base64.</summary>
    /// <param name="secret">As <see cref="NewSecret"/> makes it.</param>
    /// <param name="id">The message's id.</param>
    /// <param name="seconds">Time of the attempt.</param>
    /// <param name="body">What is posted.</param>
    public static string Sign(string secret, string id, long seconds, string body) =>
        "v1," + Convert.ToBase64String(HMACSHA256.HashData(Convert.FromBase64String(secret[Prefix.Length..]), Encoding.UTF8.GetBytes($"{id}.{seconds}.{body}")));

    /// <summary>Whether a text is such a secret.</summary>
    public static bool IsSecret(string text) => text.StartsWith(Prefix, StringComparison.Ordinal) && Convert.TryFromBase64String(text[Prefix.Length..], new byte[text.Length], out var length) && length >= 16;
}
