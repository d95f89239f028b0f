using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using IronKeep.Stores.Chunks;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// The commit point of a copy: what has no record does not exist. <paramref name="Root"/> lists the chunks of the listing of
/// "/". Times are UTC; sizes are bytes.
/// </summary>
public sealed record CopyRecord(
    string Id,
    string Job,
    string Machine,
    DateTimeOffset Taken,
    DateTimeOffset Ended,
    ImmutableArray<string> Takes,
    long Items,
    long Bytes,
    long Skipped,
    ImmutableArray<string> Root)
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);

    /// <summary>The chunks of the root listing.</summary>
    public ImmutableArray<ChunkId> RootChunks() => [.. Root.Select(ChunkId.Parse)];

    internal byte[] ToBytes() => CheckedText.Write(JsonSerializer.Serialize(this, Json));

    internal static CopyRecord FromBytes(byte[] bytes, string name)
    {
        try
        {
            var record = JsonSerializer.Deserialize<CopyRecord>(CheckedText.Read(bytes, name), Json);
            if (record is { Id: not null, Job: not null, Machine: not null, Root.IsDefault: false }) return record;
        }
        catch (JsonException e)
        {
            throw new StoreDamageException($"{name} is not a copy record", e);
        }
        throw new StoreDamageException($"{name} is not a whole copy record");
    }
}

/// <summary>One line of text with the SHA-256 of it in a second line, so that a changed byte is noticed.</summary>
internal static class CheckedText
{
    public static byte[] Write(string line) => Encoding.UTF8.GetBytes($"{line}\nsha256 {Hash(Encoding.UTF8.GetBytes(line))}\n");

    public static string Read(byte[] bytes, string name)
    {
        var end = Array.IndexOf(bytes, (byte)'\n');
        if (end < 0 || Encoding.UTF8.GetString(bytes.AsSpan(end + 1)) != $"sha256 {Hash(bytes.AsSpan(0, end))}\n")
            throw new StoreDamageException($"{name} is not what was written: its check does not fit");
        return Encoding.UTF8.GetString(bytes.AsSpan(0, end));
    }

    private static string Hash(ReadOnlySpan<byte> bytes) => Convert.ToHexStringLower(SHA256.HashData(bytes));
}
