using System.Security.Cryptography;
using System.Text;

namespace IronKeep.Stores.Keys;

/// <summary>
/// One line of text with the SHA-256 of it in a second line, so that a changed byte is noticed. For what must be read before any key is
/// known.
/// </summary>
internal static class CheckedText
{
    public static byte[] Write(string line) => Encoding.UTF8.GetBytes($"{line}\nsha256 {Hash(Encoding.UTF8.GetBytes(line))}\n");

    public static string Read(byte[] bytes, string name)
    {
        var end = Array.IndexOf(bytes, (byte)'\n');
        if (end < 0 || !bytes.AsSpan(end + 1).SequenceEqual(Encoding.UTF8.GetBytes($"sha256 {Hash(bytes.AsSpan(0, end))}\n")))
            throw new StoreDamageException($"{name} is not what was written: its check does not fit");
        return Encoding.UTF8.GetString(bytes.AsSpan(0, end));
    }

    private static string Hash(ReadOnlySpan<byte> bytes) => Convert.ToHexStringLower(SHA256.HashData(bytes));
}
