using System.Text.Json;

namespace IronKeep.Stores.Keys;

/// <summary>
/// The root key of a store, sealed under one secret. A store may have several; adding or removing one writes no data anew.
/// <paramref name="Label"/> is what people call it. Bytes are base64.
/// </summary>
public sealed record KeyWrap(
    string Id,
    string Label,
    string Kind,
    DateTimeOffset Made,
    int MemoryKib,
    int Passes,
    int Lanes,
    byte[] Salt,
    byte[] Sealed
)
{
    private const int SaltSize = 16;

    public static KeyWrap Of(StoreKeys keys, string label, Secret secret, DateTimeOffset now, Hardness? hardness = null)
    {
        hardness ??= secret.Hardness;
        var salt = Secret.Random(SaltSize);
        return new KeyWrap(
            Guid.CreateVersion7(now).ToString("n")[..24],
            label,
            secret.Kind,
            now,
            hardness.MemoryKib,
            hardness.Passes,
            hardness.Lanes,
            salt,
            Sealing.Seal(secret.WrappingKey(salt, hardness), keys.Root)
        );
    }

    /// <summary>Whether the secret is the one that this seals the root key under; costs as much as opening the store.</summary>
    public bool OpensWith(Secret secret) => Open(secret) is not null;

    /// <summary>The root key, or null when the secret is another.</summary>
    internal byte[]? Open(Secret secret)
    {
        if (secret.Kind != Kind)
            return null;
        var root = Sealing.Open(secret.WrappingKey(Salt, new Hardness(MemoryKib, Passes, Lanes)), Sealed);
        return root is { Length: StoreKeys.Size } ? root : null;
    }

    /// <summary>Random secrets cost the same everywhere; how hard a passphrase is made may differ within bounds.</summary>
    private bool IsBearable =>
        new Hardness(MemoryKib, Passes, Lanes) is var hardness
        && (
            Kind == Secret.PassphraseKind
                ? hardness.IsBearable
                : Kind is Secret.KeyFileKind or Secret.RecoverySheetKind && hardness == Hardness.Light
        );

    internal byte[] ToBytes() => CheckedText.Write(JsonSerializer.Serialize(this, StoreJson.Default.KeyWrap));

    internal static KeyWrap FromBytes(byte[] bytes, string name)
    {
        try
        {
            var wrap = JsonSerializer.Deserialize(CheckedText.Read(bytes, name), StoreJson.Default.KeyWrap);
            // A made-up file must not make the machine spend all its memory or days on a key.
            if (
                wrap is { Id: not null, Label: not null, Kind: not null, Salt.Length: >= 8 and <= 64, Sealed.Length: <= 256 }
                && wrap.IsBearable
            )
                return wrap;
        }
        catch (JsonException) { }
        throw new StoreDamageException($"{name} is not a wrapped key");
    }
}
