using System.Collections.Immutable;
using IronKeep.Core.Dated;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>
/// A store in a folder. <paramref name="Capacity"/> is what it may hold (null: what its file system holds);
/// <paramref name="Reserve"/> stays free; <paramref name="Bin"/> is how long expired copies wait before their bytes are reclaimed;
/// less free room than <paramref name="WarnBelow"/> (null: a tenth of all room) is told. It is verified and reclaimed at
/// <paramref name="VerifyWhen"/> and <paramref name="ReclaimWhen"/> (null: only when somebody asks); one verification reads at
/// most <paramref name="VerifyBudget"/> (null: everything).
/// </summary>
public sealed record StoreDefinition(
    string Name,
    string Folder,
    ByteSize? Capacity,
    ByteSize? Reserve,
    Span Bin,
    ByteSize? WarnBelow = null,
    Schedule? VerifyWhen = null,
    ByteSize? VerifyBudget = null,
    Schedule? ReclaimWhen = null
)
{
    /// <summary>The reserve as a share of the capacity, or of the file system where there is none; null: it is given in bytes.</summary>
    public int? ReservePercent { get; init; }

    public bool HasReserve => Reserve is not null || ReservePercent is not null;

    /// <summary>The bytes that stay free, given the size of the file system (null: not known).</summary>
    public long ReserveOf(long? total) =>
        Reserve?.Bytes ?? (ReservePercent is { } percent && (Capacity?.Bytes ?? total) is { } whole ? whole / 100 * percent : 0);

    /// <summary>How many runs may write to it at once; null: as many as there are.</summary>
    public int? RunsAtOnce { get; init; }

    /// <summary>
    /// The file with the secret that opens the store, and whether it is a passphrase or the bytes of a key; null: the store does not
    /// encrypt.
    /// </summary>
    public string? KeyFile { get; init; }
    public string? PassphraseFile { get; init; }

    /// <summary>Whether a new store hashes with SHA-256 instead of BLAKE3.</summary>
    public bool Sha256 { get; init; }

    /// <summary>Ceilings of bytes a second; null: none.</summary>
    public ByteSize? UploadAtMost { get; init; }
    public ByteSize? DownloadAtMost { get; init; }

    /// <summary>In how long a time the scheduled verifications together read every byte again; null: as the budget goes.</summary>
    public Span? VerifyWithin { get; init; }

    /// <summary>The server that holds the folder; null: this machine.</summary>
    public RemoteFolder? Remote { get; init; }

    /// <summary>The machine whose disk it lies on and whose agent alone reaches it; null: it lies where the service reaches it.</summary>
    public string? On { get; init; }

    /// <summary>How files of its folder become copies, where something else writes them there; null: the service writes it.</summary>
    public DatedFiles? Dated { get; init; }

    /// <summary>How it keeps plain archives; null: it does not.</summary>
    public PlainArchives? Plain { get; init; }

    /// <summary>The word of its layout in a charter.</summary>
    public string Layout =>
        Plain is not null ? "plain"
        : Dated is null ? "pooled"
        : "dated-files";

    /// <summary>The folder, where it is one of this machine; null: it lies elsewhere.</summary>
    public string? LocalFolder => RemoteFolder.IsMeant(Folder) || On is not null ? null : Folder;

    /// <summary>How long expired copies wait in the bin when the store does not say.</summary>
    public static readonly Span UsualBin = new(7, SpanUnit.Days);

    /// <summary>The free room under which the store is nearly full, given its used and free bytes.</summary>
    public long NearlyFullBelow(long used, long free) => WarnBelow?.Bytes ?? (Capacity?.Bytes ?? used + free) / 10;
}

/// <summary>Plain archives: whether they are compressed, and how large a file of them is at most (null: as large as it comes).</summary>
public sealed record PlainArchives(bool Compresses, ByteSize? PieceSize);

/// <summary>A retention policy with its floor and the zone of its periods (null: the charter's).</summary>
public sealed record PolicyDefinition(string Name, RetentionPolicy Keep, int AtLeast, DateTimeZone? Zone)
{
    /// <summary>
    /// Ages of which there shall always be a copy, such as 3 months: the forecast looks whether the rungs keep the promise.
    /// </summary>
    public ImmutableArray<Span> Promises { get; init; } = [];

    public bool Equals(PolicyDefinition? other) =>
        other is not null && Name == other.Name && CharterFields.Of(this).SequenceEqual(CharterFields.Of(other));

    public override int GetHashCode() => Name.GetHashCode(StringComparison.Ordinal);
}
