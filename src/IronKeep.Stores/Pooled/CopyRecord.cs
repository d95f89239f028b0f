using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// The commit point of a copy: what has no record does not exist. <paramref name="Root"/> lists the chunks of the listing of
/// "/" at <paramref name="Depth"/> (see <see cref="ContentRef"/>). Times are UTC; sizes are bytes.
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
    int Depth,
    ImmutableArray<string> Root)
{
    private const string Signed = "signed ";
    private const string SealedPrefix = "sealed ";
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);

    /// <summary>The reference to the root listing.</summary>
    public ContentRef RootContent() => new(Depth, [.. Root.Select(ChunkId.Parse)]);

    /// <summary>A line (JSON, or in a store that encrypts the sealed JSON as base64) and a second line that signs it.</summary>
    internal byte[] ToBytes(StoreKeys keys)
    {
        var line = JsonSerializer.Serialize(this, Json);
        if (keys.Encrypts) line = SealedPrefix + Convert.ToBase64String(keys.SealRecord(Encoding.UTF8.GetBytes(line)));
        return Encoding.UTF8.GetBytes($"{line}\n{Signed}{keys.Sign(Encoding.UTF8.GetBytes(line))}\n");
    }

    internal static CopyRecord FromBytes(byte[] bytes, StoreKeys keys, string name)
    {
        var end = Array.IndexOf(bytes, (byte)'\n');
        if (end < 0 || !bytes.AsSpan(end + 1).SequenceEqual(Encoding.ASCII.GetBytes($"{Signed}{keys.Sign(bytes.AsSpan(0, end))}\n")))
            throw new StoreDamageException($"{name} is not what was written: its signature does not fit");
        var line = Encoding.UTF8.GetString(bytes, 0, end);
        try
        {
            if (keys.Encrypts)
            {
                var content = line.StartsWith(SealedPrefix, StringComparison.Ordinal) ? keys.OpenRecord(Convert.FromBase64String(line[SealedPrefix.Length..])) : null;
                if (content is null) throw new StoreDamageException($"{name} cannot be opened with the store's key");
                line = Encoding.UTF8.GetString(content);
            }
            var record = JsonSerializer.Deserialize<CopyRecord>(line, Json);
            if (record is { Id: not null, Job: not null, Machine: not null, Root.IsDefault: false, Takes.IsDefault: false, Depth: >= 0 and <= ContentRef.MostDepth } && record.Root.All(r => r is { Length: 2 * ChunkId.Size } && r.All(char.IsAsciiHexDigit))) return record;
        }
        catch (Exception e) when (e is JsonException or FormatException)
        {
            throw new StoreDamageException($"{name} is not a copy record", e);
        }
        throw new StoreDamageException($"{name} is not a whole copy record");
    }
}
