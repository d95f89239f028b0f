using System.Security.Cryptography;
using System.Text;
using Konscious.Security.Cryptography;

namespace IronKeep.Stores.Keys;

/// <summary>How hard it is to try passphrases: memory (KiB), passes and lanes of Argon2id (RFC 9106).</summary>
public sealed record Hardness(int MemoryKib, int Passes, int Lanes)
{
    /// <summary>RFC 9106's second recommendation: for machines that cannot spare 2 GiB.</summary>
    public static Hardness Usual { get; } = new(64 * 1024, 3, 4);

    /// <summary>For random keys, which nobody can guess, and for tests.</summary>
    public static Hardness Light { get; } = new(1024, 1, 1);

    /// <summary>Whether a wrap may ask for it: one in a stranger's store must not cost all memory, or minutes.</summary>
    internal bool IsBearable =>
        MemoryKib is >= 8 and <= 256 * 1024 && Passes is >= 1 and <= 8 && Lanes is >= 1 and <= 16 && MemoryKib >= 8 * Lanes;
}

/// <summary>What opens a store: a passphrase, the content of a key file, or the code of a recovery sheet.</summary>
public sealed class Secret
{
    private readonly byte[] bytes;

    private Secret(string kind, byte[] bytes) => (Kind, this.bytes) = (kind, bytes);

    /// <summary>"passphrase", "key-file" or "recovery-sheet".</summary>
    public string Kind { get; }

    /// <summary>How hard the wrapping key is made: a passphrase can be guessed, the others are random.</summary>
    public Hardness Hardness => Kind == PassphraseKind ? Hardness.Usual : Hardness.Light;

    private const int ShortestPassphrase = 8,
        MostKeyBytes = 65536;
    private const string MakeOne = "make one with 'head -c 32 /dev/urandom > FILE'";

    public const string PassphraseKind = "passphrase",
        KeyFileKind = "key-file",
        RecoverySheetKind = "recovery-sheet";

    /// <summary>A passphrase: its UTF-8 bytes as they are given; a line end at its end is not part of it.</summary>
    public static Secret Passphrase(string text)
    {
        var phrase = text.TrimEnd('\r', '\n');
        return phrase.Length >= ShortestPassphrase
            ? new(PassphraseKind, Encoding.UTF8.GetBytes(phrase))
            : throw new StoreKeyException(
                phrase.Length == 0
                    ? "the passphrase is empty; write one into its file, a sentence is easy to remember"
                    : $"the passphrase has {phrase.Length} characters and needs at least {ShortestPassphrase}; a sentence is easy to "
                        + $"remember"
            );
    }

    /// <summary>The bytes of a key file: at least 16, better 32 random ones.</summary>
    public static Secret KeyFile(byte[] content)
    {
        if (content.Length is < 16 or > MostKeyBytes)
            throw new StoreKeyException($"a key file has 16 to {MostKeyBytes} bytes, this one has {content.Length}; {MakeOne}");
        // Sixteen random bytes have fewer than eight different ones once in a thousand million times.
        return content.Distinct().Count() >= 8
            ? new(KeyFileKind, content)
            : throw new StoreKeyException($"the key file is not random: it repeats a few bytes, so it can be guessed; {MakeOne}");
    }

    /// <summary>The code of a recovery sheet, however it is spaced.</summary>
    public static Secret Recovery(string code) => new(RecoverySheetKind, RecoverySheet.ReadCode(code));

    internal byte[] WrappingKey(byte[] salt, Hardness hardness)
    {
        using var argon = new Argon2id(bytes)
        {
            Salt = salt,
            MemorySize = hardness.MemoryKib,
            Iterations = hardness.Passes,
            DegreeOfParallelism = hardness.Lanes,
        };
        return argon.GetBytes(StoreKeys.Size);
    }

    internal static byte[] Random(int size) => RandomNumberGenerator.GetBytes(size);
}

/// <summary>A store cannot be opened with what was given, or a secret is not one.</summary>
public sealed class StoreKeyException(string message) : Exception(message);
