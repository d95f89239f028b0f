using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace IronKeep.Core.Machines;

/// <summary>
/// What a key is known by: the SHA-256 of its public part (SubjectPublicKeyInfo, RFC 5280). A certificate that is made anew of the same key
/// has the same print.
/// </summary>
public static class KeyPrint
{
    /// <summary>Bytes of a print.</summary>
    public const int Size = 32;

    public static byte[] Of(X509Certificate2 certificate) => SHA256.HashData(certificate.PublicKey.ExportSubjectPublicKeyInfo());

    /// <summary>A print as people compare it: hex in groups of four.</summary>
    public static string Show(ReadOnlySpan<byte> print) =>
        string.Join(' ', Convert.ToHexStringLower(print).Chunk(4).Select(four => new string(four)));
}
