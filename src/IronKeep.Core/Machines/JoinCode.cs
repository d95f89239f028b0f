using System.Buffers.Text;
using System.Security.Cryptography;

namespace IronKeep.Core.Machines;

/// <summary>
/// The one-time code with which a machine joins a service: a secret, and the print of the key of the service that it may be told to (see
/// <see cref="KeyPrint"/>). As text it has a check, so that one which was not copied whole is noticed before anything is sent.
/// </summary>
public sealed record JoinCode(ReadOnlyMemory<byte> Secret, ReadOnlyMemory<byte> ServicePrint)
{
    /// <summary>Bytes of the secret: nobody guesses it within its hour.</summary>
    public const int SecretSize = 16;
    private const int CheckSize = 2,
        Size = SecretSize + KeyPrint.Size + CheckSize;

    /// <summary>It tells the kind of code at sight, and that it does not begin like an option.</summary>
    private const string Begin = "join.";

    public static JoinCode New(ReadOnlyMemory<byte> servicePrint) => new(RandomNumberGenerator.GetBytes(SecretSize), servicePrint);

    public override string ToString()
    {
        Span<byte> bytes = stackalloc byte[Size];
        Secret.Span.CopyTo(bytes);
        ServicePrint.Span.CopyTo(bytes[SecretSize..]);
        Check(bytes[..^CheckSize]).CopyTo(bytes[^CheckSize..]);
        return Begin + Base64Url.EncodeToString(bytes);
    }

    /// <summary>Reads a code; what was not copied whole is refused with a word about it.</summary>
    public static bool TryParse(string text, out JoinCode code, out string problem)
    {
        (code, problem) = (null!, "");
        if (!text.StartsWith(Begin, StringComparison.Ordinal))
        {
            problem = $"a code begins with '{Begin}'; copy the whole command that 'ironkeep machine enrol' printed";
            return false;
        }
        var bytes = new byte[Size];
        if (
            !Base64Url.IsValid(text.AsSpan(Begin.Length), out var length)
            || length != Size
            || !Base64Url.TryDecodeFromChars(text.AsSpan(Begin.Length), bytes, out _)
            || !Check(bytes.AsSpan(0, Size - CheckSize)).SequenceEqual(bytes.AsSpan(Size - CheckSize))
        )
        {
            problem = "the code was not copied whole; copy the whole command that 'ironkeep machine enrol' printed";
            return false;
        }
        code = new JoinCode(bytes.AsMemory(0, SecretSize), bytes.AsMemory(SecretSize, KeyPrint.Size));
        return true;
    }

    private static ReadOnlySpan<byte> Check(ReadOnlySpan<byte> of) => SHA256.HashData(of).AsSpan(0, CheckSize);

    public bool Equals(JoinCode? other) =>
        other is not null && Secret.Span.SequenceEqual(other.Secret.Span) && ServicePrint.Span.SequenceEqual(other.ServicePrint.Span);

    public override int GetHashCode() => BitConverter.ToInt32(Secret.Span);
}
