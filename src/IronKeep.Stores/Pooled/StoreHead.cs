using System.Collections.Immutable;
using System.Text.Json;

namespace IronKeep.Stores.Pooled;

/// <summary>What a store says of itself in its first file. A reader that does not know a feature refuses the store by the feature's name.</summary>
public sealed record StoreHead(string Format, int Version, string Id, DateTimeOffset Made, string Hash, string Encryption, ImmutableArray<string> Features)
{
    internal const string FileName = "store.head";
    private const string KnownFormat = "ironkeep-pooled";
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);

    internal static StoreHead New(DateTimeOffset now) => new(KnownFormat, 1, Guid.CreateVersion7(now).ToString("n"), now, "sha-256", "none", []);

    internal byte[] ToBytes() => CheckedText.Write(JsonSerializer.Serialize(this, Json));

    internal static StoreHead FromBytes(byte[] bytes, string place)
    {
        StoreHead? head;
        try
        {
            head = JsonSerializer.Deserialize<StoreHead>(CheckedText.Read(bytes, $"{place}/{FileName}"), Json);
        }
        catch (JsonException e)
        {
            throw new StoreDamageException($"{place}/{FileName} cannot be read", e);
        }
        if (head?.Format != KnownFormat) throw new StoreDamageException($"{place} does not hold a store in the pooled layout");
        if (head.Version != 1) throw new StoreDamageException($"the store at {place} has format version {head.Version}; this program reads version 1");
        if (head.Hash != "sha-256" || head.Encryption != "none" || head.Features.Length > 0)
            throw new StoreDamageException($"the store at {place} uses what this program does not know: hash {head.Hash}, encryption {head.Encryption}, features {string.Join(", ", head.Features)}");
        return head;
    }
}
