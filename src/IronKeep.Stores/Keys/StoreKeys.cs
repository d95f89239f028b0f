using System.Security.Cryptography;
using IronKeep.Stores.Chunks;

namespace IronKeep.Stores.Keys;

/// <summary>
/// The keys of one store, all from one root key of 32 bytes: for identities, for packs, for records, for signatures. A store without
/// encryption has its root key in its head, so that its identities are its own all the same; its packs and records are then open.
/// </summary>
public sealed class StoreKeys
{
    public const int Size = 32;

    private readonly byte[] root,
        identity,
        packs,
        records,
        signing;

    public StoreKeys(HashKind hash, bool encrypts, byte[] root)
    {
        if (root.Length != Size)
            throw new ArgumentException("a root key has 32 bytes", nameof(root));
        (Hash, Encrypts, this.root) = (hash, encrypts, root);
        identity = Derive("identities");
        packs = Derive("packs");
        records = Derive("records");
        signing = Derive("signatures");
    }

    public HashKind Hash { get; }

    public bool Encrypts { get; }

    /// <summary>The root key itself, for wrapping it.</summary>
    internal ReadOnlySpan<byte> Root => root;

    /// <summary>The identity of a chunk.</summary>
    public ChunkId IdOf(ReadOnlySpan<byte> content)
    {
        Span<byte> hash = stackalloc byte[Size];
        Hashes.Keyed(Hash, identity, content, hash);
        return ChunkId.Read(hash);
    }

    /// <summary>What proves that a line was written by someone who has the store's key; 64 hex digits.</summary>
    public string Sign(ReadOnlySpan<byte> line)
    {
        Span<byte> hash = stackalloc byte[Size];
        Hashes.Keyed(Hash, signing, line, hash);
        return Convert.ToHexStringLower(hash);
    }

    /// <summary>The cipher of one pack, from its salt; null when the store does not encrypt. Not for two threads at once.</summary>
    internal AesGcm? CipherOf(ReadOnlySpan<byte> salt)
    {
        if (!Encrypts)
            return null;
        Span<byte> key = stackalloc byte[Size];
        HKDF.DeriveKey(HashAlgorithmName.SHA256, packs, key, salt, "ironkeep pack"u8);
        return new AesGcm(key, Sealing.TagSize);
    }

    /// <summary>Seals a record under a nonce of its own; open stores leave it as it is.</summary>
    internal byte[] SealRecord(ReadOnlySpan<byte> record) => Sealing.Seal(records, record);

    /// <summary>Opens what <see cref="SealRecord"/> made; null when it was changed.</summary>
    internal byte[]? OpenRecord(ReadOnlySpan<byte> sealedRecord) => Sealing.Open(records, sealedRecord);

    // HKDF with SHA-256 (RFC 5869) in every store, whatever its hash: it runs once an opening.
    private byte[] Derive(string purpose) =>
        HKDF.DeriveKey(HashAlgorithmName.SHA256, root, Size, info: System.Text.Encoding.ASCII.GetBytes("ironkeep " + purpose));
}
