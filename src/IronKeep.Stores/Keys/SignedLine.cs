using System.Text;

namespace IronKeep.Stores.Keys;

/// <summary>
/// A line of JSON, in a store that encrypts sealed and as base64, and a second line that signs it: what only somebody with the store's key
/// can have written.
/// </summary>
internal static class SignedLine
{
    private const string Signed = "signed ";
    private const string SealedPrefix = "sealed ";

    public static byte[] Write(string json, StoreKeys keys)
    {
        var line = keys.Encrypts ? SealedPrefix + Convert.ToBase64String(keys.SealRecord(Encoding.UTF8.GetBytes(json))) : json;
        return Encoding.UTF8.GetBytes($"{line}\n{Signed}{keys.Sign(Encoding.UTF8.GetBytes(line))}\n");
    }

    /// <summary>The JSON; a <see cref="StoreDamageException"/> when a byte was changed or another key wrote it.</summary>
    public static string Read(byte[] bytes, StoreKeys keys, string name)
    {
        var end = Array.IndexOf(bytes, (byte)'\n');
        if (end < 0 || !bytes.AsSpan(end + 1).SequenceEqual(Encoding.ASCII.GetBytes($"{Signed}{keys.Sign(bytes.AsSpan(0, end))}\n")))
            throw new StoreDamageException($"{name} is not what was written: its signature does not fit");
        var line = Encoding.UTF8.GetString(bytes, 0, end);
        if (!keys.Encrypts)
            return line;
        try
        {
            var content = line.StartsWith(SealedPrefix, StringComparison.Ordinal)
                ? keys.OpenRecord(Convert.FromBase64String(line[SealedPrefix.Length..]))
                : null;
            return content is not null
                ? Encoding.UTF8.GetString(content)
                : throw new StoreDamageException($"{name} cannot be opened with the store's key");
        }
        catch (FormatException e)
        {
            throw new StoreDamageException($"{name} is not what was written: it is not base64", e);
        }
    }
}
