using System.Collections.Immutable;
using System.Text.Json;
using System.Text.Json.Serialization;
using IronKeep.Core.Dated;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Keys;

namespace IronKeep.Stores.Pooled;

/// <summary>A file that belongs to one copy: its name in the copy's folder, its length, and the SHA-256 of it in hex digits.</summary>
public sealed record CopyFile(string Name, long Bytes, string Sha256);

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
    ImmutableArray<string> Root
)
{
    /// <summary>The reference to the root listing.</summary>
    public ContentRef RootContent() => new(Depth, [.. Root.Select(ChunkId.Parse)]);

    /// <summary>Raw bytes of chunks that the store lacked, and what they took in packs; null where the run did not say.</summary>
    public long? NewBytes { get; init; }
    public long? StoredBytes { get; init; }

    /// <summary>Where a layout tells full copies from partial ones: which this is.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public CopyKind? Kind { get; init; }

    /// <summary>
    /// The copy on which a partial one stands: the one before it, or its full one. Null: it needs none, or its layout tells.
    /// </summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? Base { get; init; }

    /// <summary>The files that it consists of, where each copy has its own; empty in other layouts.</summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)]
    public ImmutableArray<CopyFile> OwnFiles { get; init; }

    /// <summary>The same, never null.</summary>
    [JsonIgnore]
    public ImmutableArray<CopyFile> Files => OwnFiles.IsDefault ? [] : OwnFiles;

    /// <summary>Whether it can only be the name of something in the very folder.</summary>
    private static bool IsName(string name) =>
        name.Length is > 0 and <= 200 && name[0] != '.' && name.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-');

    internal byte[] ToBytes(StoreKeys keys) => SignedLine.Write(JsonSerializer.Serialize(this, StoreJson.Default.CopyRecord), keys);

    internal static CopyRecord FromBytes(byte[] bytes, StoreKeys keys, string name)
    {
        try
        {
            var record = JsonSerializer.Deserialize(SignedLine.Read(bytes, keys, name), StoreJson.Default.CopyRecord);
            if (
                record
                    is {
                        Id: not null,
                        Job: not null,
                        Machine: not null,
                        Root.IsDefault: false,
                        Takes.IsDefault: false,
                        Depth: >= 0 and <= ContentRef.MostDepth,
                        Items: >= 0,
                        Bytes: >= 0,
                        Skipped: >= 0
                    }
                && record.Root.All(r => r is { Length: 2 * ChunkId.Size } && r.All(char.IsAsciiHexDigit))
                && record.Takes.All(t => t is not null)
                && (record.Base is null || IsName(record.Base))
                && record.Files.All(f => f is { Name: not null, Sha256.Length: 64, Bytes: >= 0 } && IsName(f.Name))
            )
                return record;
        }
        catch (JsonException e)
        {
            throw new StoreDamageException($"{name} is not a copy record", e);
        }
        throw new StoreDamageException($"{name} is not a whole copy record");
    }
}
