using System.Security.Cryptography;

namespace IronKeep.Stores.Keys;

/// <summary>AES-256-GCM of small things under a random nonce: nonce (12 bytes), ciphertext, tag (16 bytes).</summary>
internal static class Sealing
{
    public const int NonceSize = 12;
    public const int TagSize = 16;

    public static byte[] Seal(ReadOnlySpan<byte> key, ReadOnlySpan<byte> content)
    {
        var result = new byte[NonceSize + content.Length + TagSize];
        var nonce = result.AsSpan(0, NonceSize);
        RandomNumberGenerator.Fill(nonce);
        using var cipher = new AesGcm(key, TagSize);
        cipher.Encrypt(nonce, content, result.AsSpan(NonceSize, content.Length), result.AsSpan(NonceSize + content.Length));
        return result;
    }

    /// <summary>The content, or null when the key is another or a bit was changed.</summary>
    public static byte[]? Open(ReadOnlySpan<byte> key, ReadOnlySpan<byte> sealedContent)
    {
        if (sealedContent.Length < NonceSize + TagSize)
            return null;
        var content = new byte[sealedContent.Length - NonceSize - TagSize];
        using var cipher = new AesGcm(key, TagSize);
        try
        {
            cipher.Decrypt(sealedContent[..NonceSize], sealedContent[NonceSize..^TagSize], sealedContent[^TagSize..], content);
            return content;
        }
        catch (AuthenticationTagMismatchException)
        {
            return null;
        }
    }
}
