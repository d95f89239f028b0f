using System.Collections.Immutable;
using System.Text.Json;
using IronKeep.Stores.Keys;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// What became of a copy after its record was written, beside the record in the store, so that a catalogue that is built anew knows it:
/// when it went to the bin, who holds it, what is damaged, why it is in doubt. <paramref name="Changed"/> (UTC) tells which of two sayings
/// is the younger. Signed with the store's key: only what bears such a note leaves the bin.
/// </summary>
public sealed record CopyNote(string Id, DateTimeOffset Changed)
{
    /// <summary>Paths of damage that a note names; their number is kept whole.</summary>
    public const int MostPaths = 100;
    public DateTimeOffset? Binned { get; init; }
    public string? HeldBy { get; init; }
    public string? HeldReason { get; init; }
    public DateTimeOffset? HeldUntil { get; init; }
    public ImmutableArray<string> Damage { get; init; } = [];
    public long DamageCount { get; init; }

    /// <summary>Why its run was suspect, until a person has confirmed it.</summary>
    public string? Doubt { get; init; }

    internal byte[] ToBytes(StoreKeys keys) => SignedLine.Write(JsonSerializer.Serialize(this, StoreJson.Default.CopyNote), keys);

    internal static CopyNote FromBytes(byte[] bytes, StoreKeys keys, string name)
    {
        try
        {
            var note = JsonSerializer.Deserialize(SignedLine.Read(bytes, keys, name), StoreJson.Default.CopyNote);
            if (note is { Id: not null })
                return note.Damage.IsDefault ? note with { Damage = [] } : note;
        }
        catch (JsonException e)
        {
            throw new StoreDamageException($"{name} is not a note of a copy", e);
        }
        throw new StoreDamageException($"{name} is not a whole note of a copy");
    }
}
