using System.Text.Json;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Plain;

/// <summary>What a plain store says of itself in its first file. The key proves records and notes; it hides nothing.</summary>
public sealed record PlainHead(string Format, int Version, string Id, DateTimeOffset Made, byte[] Key)
{
    internal const string FileName = "plain.head";
    private const string KnownFormat = "ironkeep-plain";
    private const int KnownVersion = 1;

    internal static PlainHead New(byte[] key, DateTimeOffset now) =>
        new(KnownFormat, KnownVersion, Guid.CreateVersion7(now).ToString("n"), now, key);

    internal byte[] ToBytes() => CheckedText.Write(JsonSerializer.Serialize(this, StoreJson.Default.PlainHead));

    internal static PlainHead Read(IPlace place)
    {
        if (!place.Exists(FileName))
            throw new PlaceException(
                PlaceFault.Unreachable,
                $"there is no store of plain archives at {place.Name} (no {FileName}); mount it or restore its path"
            );
        try
        {
            var head = JsonSerializer.Deserialize(
                CheckedText.Read(place.Read(FileName), $"{place.Name}/{FileName}"),
                StoreJson.Default.PlainHead
            );
            if (head is { Format: KnownFormat, Id.Length: > 0, Key.Length: StoreKeys.Size })
                return head.Version == KnownVersion
                    ? head
                    : throw new StoreDamageException(
                        $"the store at {place.Name} has format version {head.Version}; this program reads version {KnownVersion}. Use the "
                            + $"program that wrote it, or unpack its archives with tar"
                    );
        }
        catch (JsonException e)
        {
            throw new StoreDamageException($"{place.Name}/{FileName} cannot be read", e);
        }
        throw new StoreDamageException($"{place.Name}/{FileName} is not the head of a store of plain archives");
    }
}
