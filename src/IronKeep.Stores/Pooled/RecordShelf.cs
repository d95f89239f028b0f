using System.Globalization;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// The copy records of a store and the notes beside them, a file each. A copy is in the bin when its record lies there and its signed note
/// says since when; a record that somebody only moved there is still in force, and its place is to be set right.
/// </summary>
internal sealed class RecordShelf(IPlace place, StoreKeys keys)
{
    private const string CopiesFolder = "copies",
        BinFolder = "bin",
        NotesFolder = "notes";
    private const string Ending = ".copy",
        NoteEnding = ".note";
    private const string BinTimeFormat = "yyyyMMdd'T'HHmmss'Z'";
    private readonly Lock noting = new();

    /// <summary>The ids of all records by where they lie, without reading one: those in force, and those in the bin.</summary>
    public (HashSet<string> InForce, HashSet<string> InBin) Names()
    {
        // The copies once more after the bin: one that comes out of the bin meanwhile would else be in neither listing.
        PlaceFile[] files = [.. place.List(CopiesFolder), .. place.List(BinFolder), .. place.List(CopiesFolder)];
        var names = files
            .Where(f => f.Name.EndsWith(Ending, StringComparison.Ordinal))
            .Select(f => (Id: IdOf(f.Name), InBin: IsInBin(f.Name)))
            .ToList();
        var inForce = names.Where(n => !n.InBin).Select(n => n.Id).ToHashSet();
        return (inForce, names.Where(n => n.InBin && !inForce.Contains(n.Id)).Select(n => n.Id).ToHashSet());
    }

    public StoreContents ReadAll()
    {
        var copies = new List<StoredCopy>();
        var damaged = new List<DamagedRecord>();
        var notes = ReadNotes(damaged);
        PlaceFile[] files = [.. place.List(CopiesFolder), .. place.List(BinFolder), .. place.List(CopiesFolder)];
        foreach (var file in files.DistinctBy(f => f.Name).Where(f => f.Name.EndsWith(Ending, StringComparison.Ordinal)))
        {
            var id = IdOf(file.Name);
            try
            {
                copies.Add(Stored(ReadFile(file.Name, id), file.Name, notes.GetValueOrDefault(id)));
            }
            catch (StoreDamageException e)
            {
                damaged.Add(new DamagedRecord(id, e.Message) { File = file.Name });
            }
            catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
            {
                // It went to the bin or came out of it meanwhile.
                if (Find(id) is { } now && Read(id) is { } record)
                    copies.Add(Stored(record, now, ReadNote(id)));
            }
            catch (PlaceException e) when (e.Fault == PlaceFault.Other)
            {
                damaged.Add(new DamagedRecord(id, e.Message) { File = file.Name });
            }
        }
        // What lies in both places was on its way when something broke off: it is in force.
        return new StoreContents(
            [.. copies.OrderBy(c => c.Record.Taken).ThenBy(c => IsInBin(c.File)).DistinctBy(c => c.Record.Id)],
            [.. damaged]
        );
    }

    public CopyRecord? Read(string id) => Find(id) is { } file ? ReadFile(file, id) : null;

    /// <summary>One copy with its note, or null.</summary>
    public StoredCopy? ReadOne(string id) => Find(id) is { } file ? Stored(ReadFile(file, id), file, ReadNote(id)) : null;

    public void Write(CopyRecord record)
    {
        if (Find(record.Id) is not null)
            throw new PlaceException(PlaceFault.Other, $"a copy {record.Id} exists already");
        place.Write($"{CopiesFolder}/{record.Id}{Ending}", record.ToBytes(keys));
    }

    /// <summary>
    /// The note says it first, then the record moves: what lies in the bin without a note was put there by somebody else.
    /// </summary>
    public bool MoveToBin(string id, DateTimeOffset now)
    {
        if (Find(id) is not { } file)
            return false;
        if (IsInBin(file) && ReadNote(id) is { Binned: not null })
            return true;
        Note(id, now, n => n with { Binned = now });
        if (!IsInBin(file))
            place.Move(file, $"{BinFolder}/{now.UtcDateTime.ToString(BinTimeFormat, CultureInfo.InvariantCulture)}-{id}{Ending}");
        return true;
    }

    public bool TakeBack(string id, DateTimeOffset now)
    {
        if (Find(id) is not { } file)
            return false;
        if (IsInBin(file))
            place.Move(file, $"{CopiesFolder}/{id}{Ending}");
        if (ReadNote(id) is { Binned: not null })
            Note(id, now, n => n with { Binned = null });
        return true;
    }

    /// <summary>The note of a copy; null when there is none, or none that the store's key signed.</summary>
    public CopyNote? ReadNote(string id)
    {
        try
        {
            var file = NoteFile(id);
            return place.Exists(file) && CopyNote.FromBytes(place.Read(file), keys, file) is var note && note.Id == id ? note : null;
        }
        catch (StoreDamageException)
        {
            return null;
        }
        catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
        {
            return null;
        }
    }

    /// <summary>Changes the note of a copy, from an empty one when there is none.</summary>
    public CopyNote Note(string id, DateTimeOffset now, Func<CopyNote, CopyNote> change)
    {
        lock (noting)
        {
            var note = change(ReadNote(id) ?? new CopyNote(id, now)) with { Id = id, Changed = now };
            place.Write(NoteFile(id), note.ToBytes(keys));
            return note;
        }
    }

    public void Delete(string id)
    {
        while (Find(id) is { } file)
            place.Delete(file);
        place.Delete(NoteFile(id), durable: false);
    }

    /// <summary>Removes a record by the very file that was looked at, and the note when no other record of the copy is left.</summary>
    public bool DeleteFile(StoredCopy copy)
    {
        place.Delete(copy.File);
        if (Find(copy.Record.Id) is not null)
            return false;
        place.Delete(NoteFile(copy.Record.Id), durable: false);
        return true;
    }

    /// <summary>Whether the file's name is one that the shelf gives.</summary>
    public static bool IsOwn(string file) =>
        (file.StartsWith(CopiesFolder + "/", StringComparison.Ordinal) || IsInBin(file)) && file.EndsWith(Ending, StringComparison.Ordinal)
        || file.StartsWith(NotesFolder + "/", StringComparison.Ordinal) && file.EndsWith(NoteEnding, StringComparison.Ordinal);

    private Dictionary<string, CopyNote> ReadNotes(List<DamagedRecord> damaged)
    {
        var notes = new Dictionary<string, CopyNote>();
        foreach (var file in place.List(NotesFolder).Where(f => f.Name.EndsWith(NoteEnding, StringComparison.Ordinal)))
        {
            try
            {
                var note = CopyNote.FromBytes(place.Read(file.Name), keys, file.Name);
                if (NoteFile(note.Id) == file.Name)
                    notes[note.Id] = note;
            }
            catch (StoreDamageException e)
            {
                damaged.Add(new DamagedRecord(Path.GetFileNameWithoutExtension(file.Name), e.Message) { File = file.Name, IsNote = true });
            }
            catch (PlaceException e) when (e.Fault is PlaceFault.NotFound or PlaceFault.Other)
            {
                // A note that went with its copy.
            }
        }
        return notes;
    }

    private static StoredCopy Stored(CopyRecord record, string file, CopyNote? note) =>
        new(record, IsInBin(file) ? note?.Binned : null)
        {
            File = file,
            Note = note,
            Displaced = IsInBin(file) && note?.Binned is null,
        };

    private CopyRecord ReadFile(string file, string id)
    {
        var record = CopyRecord.FromBytes(place.Read(file), keys, file);
        return record.Id == id ? record : throw new StoreDamageException($"{file} holds the record of copy {record.Id}");
    }

    private string? Find(string id)
    {
        var plain = $"{CopiesFolder}/{id}{Ending}";
        if (place.Exists(plain))
            return plain;
        foreach (var file in place.List(BinFolder))
            if (file.Name.EndsWith($"-{id}{Ending}", StringComparison.Ordinal) && IdOf(file.Name) == id)
                return file.Name;
        return null;
    }

    private static string NoteFile(string id) => $"{NotesFolder}/{id}{NoteEnding}";

    private static bool IsInBin(string file) => file.StartsWith(BinFolder + "/", StringComparison.Ordinal);

    /// <summary>
    /// The copy's id from the name of its record: in the bin it stands behind the instant at which it went there, which is for people.
    /// </summary>
    private static string IdOf(string file)
    {
        var name = Path.GetFileNameWithoutExtension(file);
        if (!IsInBin(file))
            return name;
        var dash = name.IndexOf('-', StringComparison.Ordinal);
        return
            dash > 0
            && DateTimeOffset.TryParseExact(
                name[..dash],
                BinTimeFormat,
                CultureInfo.InvariantCulture,
                DateTimeStyles.AssumeUniversal,
                out _
            )
            ? name[(dash + 1)..]
            : name;
    }
}
