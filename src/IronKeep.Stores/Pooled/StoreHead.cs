using System.Collections.Immutable;
using System.Text.Json;
using IronKeep.Stores.Keys;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// What a store says of itself in its first file. A reader that does not know a feature refuses the store by the feature's name.
/// <paramref name="Key"/> is the root key of a store that does not encrypt, else null. <paramref name="Proof"/> shows that the head of an
/// encrypted store was written by somebody who has its root key (64 hex digits; empty where it does not encrypt).
/// </summary>
public sealed record StoreHead(
    string Format,
    int Version,
    string Id,
    DateTimeOffset Made,
    string Hash,
    string Encryption,
    ImmutableArray<string> Features,
    byte[]? Key,
    string? Proof = null
)
{
    public const string Encrypted = "aes-256-gcm",
        NotEncrypted = "none";
    internal const string FileName = "store.head";
    private const string KnownFormat = "ironkeep-pooled";
    private const int KnownVersion = 2;
    private const string Blake3 = "blake3",
        Sha256 = "sha-256";
    public HashKind HashKind => Hash == Sha256 ? HashKind.Sha256 : HashKind.Blake3;

    public bool Encrypts => Encryption == Encrypted;

    internal static StoreHead New(StoreKeys keys, byte[]? openKey, DateTimeOffset now)
    {
        var head = new StoreHead(
            KnownFormat,
            KnownVersion,
            Guid.CreateVersion7(now).ToString("n"),
            now,
            keys.Hash == HashKind.Sha256 ? Sha256 : Blake3,
            openKey is null ? Encrypted : NotEncrypted,
            [],
            openKey
        );
        return openKey is null ? head with { Proof = head.ProofBy(keys) } : head;
    }

    /// <summary>Refuses the head of an encrypted store that its root key did not sign.</summary>
    internal void Prove(StoreKeys keys, string place)
    {
        if (Encrypts && Proof != ProofBy(keys))
            throw new StoreKeyException(
                $"{place}/{FileName} was not written with the key of the store: somebody changed it. Bring it back from another copy of "
                    + $"the store, and look who can write there"
            );
    }

    private string ProofBy(StoreKeys keys) =>
        keys.Sign(
            System.Text.Encoding.UTF8.GetBytes(
                $"head {Format} {Version} {Id} {Made.UtcTicks} {Hash} {Encryption} {string.Join(',', Features.IsDefault ? [] : Features)}"
            )
        );

    internal byte[] ToBytes() => CheckedText.Write(JsonSerializer.Serialize(this, StoreJson.Default.StoreHead));

    internal static StoreHead FromBytes(byte[] bytes, string place)
    {
        StoreHead? head;
        try
        {
            head = JsonSerializer.Deserialize(CheckedText.Read(bytes, $"{place}/{FileName}"), StoreJson.Default.StoreHead);
        }
        catch (JsonException e)
        {
            throw new StoreDamageException($"{place}/{FileName} cannot be read", e);
        }
        if (head?.Format != KnownFormat)
            throw new StoreDamageException($"{place} does not hold a store in the pooled layout");
        if (head.Version != KnownVersion)
            throw new StoreDamageException(
                $"the store at {place} has format version {head.Version}; this program reads version {KnownVersion}. Use the program that "
                    + $"wrote it, or start a new store in another folder"
            );
        if (!head.Features.IsDefaultOrEmpty)
            throw new StoreDamageException(
                $"the store at {place} needs what this program does not know: {string.Join(", ", head.Features)}. Use a newer program"
            );
        if (head.Hash is not (Blake3 or Sha256))
            throw new StoreDamageException($"the store at {place} uses the hash function '{head.Hash}', which this program does not know");
        if (head.Encryption is not (Encrypted or NotEncrypted))
            throw new StoreDamageException(
                $"the store at {place} uses the encryption '{head.Encryption}', which this program does not know"
            );
        if (string.IsNullOrEmpty(head.Id) || (head.Encryption == NotEncrypted) != (head.Key is { Length: StoreKeys.Size }))
            throw new StoreDamageException($"{place}/{FileName} is not whole");
        return head;
    }
}
