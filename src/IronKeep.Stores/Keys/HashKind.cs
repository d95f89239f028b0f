using System.Security.Cryptography;
using IronKeep.Blake3;

namespace IronKeep.Stores.Keys;

/// <summary>The hash function of a store, chosen when it is made.</summary>
public enum HashKind
{
    Blake3,
    Sha256,
}

/// <summary>The two functions behind one face: plain and keyed, in one piece or in many. Results are 32 bytes.</summary>
public static class Hashes
{
    public const int Size = 32;

    public static void Plain(HashKind kind, ReadOnlySpan<byte> content, Span<byte> result)
    {
        if (kind == HashKind.Blake3)
            Blake3Hash.Hash(content, result);
        else
            SHA256.HashData(content, result);
    }

    /// <summary>Keyed BLAKE3, or HMAC with SHA-256 (RFC 2104).</summary>
    public static void Keyed(HashKind kind, ReadOnlySpan<byte> key, ReadOnlySpan<byte> content, Span<byte> result)
    {
        if (kind == HashKind.Blake3)
            Blake3Hash.KeyedHash(key, content, result);
        else
            HMACSHA256.HashData(key, content, result);
    }
}

/// <summary>The plain hash of content that comes piece by piece. Not for two threads at once.</summary>
public sealed class HashStream(HashKind kind) : IDisposable
{
    private readonly Blake3Stream? blake = kind == HashKind.Blake3 ? new Blake3Stream() : null;
    private readonly IncrementalHash? sha = kind == HashKind.Sha256 ? IncrementalHash.CreateHash(HashAlgorithmName.SHA256) : null;

    public void Add(ReadOnlySpan<byte> content)
    {
        if (blake is not null)
            blake.Add(content);
        else
            sha!.AppendData(content);
    }

    /// <summary>The hash of all that was added, and a new beginning.</summary>
    public void Finish(Span<byte> result)
    {
        if (blake is not null)
        {
            blake.Finish(result);
            blake.Reset();
        }
        else
            sha!.GetHashAndReset(result);
    }

    public void Dispose() => sha?.Dispose();
}
