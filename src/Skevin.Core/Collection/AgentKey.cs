using System.Security.Cryptography;
using System.Text;

namespace Skevin.Core.Collection;

/// <summary>Whether a caller of an agent's page is the server: it knows the key whose hash stands in the configuration.</summary>
public static class AgentKey
{
    /// <summary>Header the key comes in.</summary>
    public const string Header = "Skevin-Key";

    /// <summary>Whether a key fits a hash, compared in constant time.</summary>
    /// <param name="key">As received.</param>
    /// <param name="hash">SHA-256 of the key, hexadecimal; null where none is set, which fits nothing.</param>
    public static bool Fits(string? key, string? hash) => key is { Length: > 0 } && hash is { Length: 64 }
        && CryptographicOperations.FixedTimeEquals(Encoding.ASCII.GetBytes(HashOf(key)), Encoding.ASCII.GetBytes(hash.ToLowerInvariant()));

    /// <summary>Hash of a key, as it stands in the configuration.</summary>
    public static string HashOf(string key) => Convert.ToHexString(SHA256.HashData(Encoding.UTF8.GetBytes(key))).ToLowerInvariant();
}
