using System.Globalization;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Pooled;

/// <summary>The copy records of a store: a file each, in the bin under a name that begins with the instant at which it went there.</summary>
internal sealed class RecordShelf(IPlace place, StoreKeys keys)
{
    private const string CopiesFolder = "copies";
    private const string BinFolder = "bin";
    private const string Ending = ".copy";
    private const string BinTimeFormat = "yyyyMMdd'T'HHmmss'Z'";

    public StoreContents ReadAll()
    {
        var copies = new List<StoredCopy>();
        var damaged = new List<DamagedRecord>();
        // The copies once more after the bin: one that comes out of the bin meanwhile would else be in neither listing.
        PlaceFile[] files = [.. place.List(CopiesFolder), .. place.List(BinFolder), .. place.List(CopiesFolder)];
        foreach (var file in files.DistinctBy(f => f.Name).Where(f => f.Name.EndsWith(Ending, StringComparison.Ordinal)))
        {
            var (id, binned) = ReadFileName(file.Name);
            try
            {
                copies.Add(new StoredCopy(ReadFile(file.Name, id), binned) { File = file.Name });
            }
            catch (StoreDamageException e)
            {
                damaged.Add(new DamagedRecord(id, e.Message));
            }
            catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
            {
                // It went to the bin or came out of it meanwhile.
                if (Read(id) is { } record) copies.Add(new StoredCopy(record, binned is null ? DateTimeOffset.MaxValue : null) { File = Find(id) ?? file.Name });
            }
            catch (PlaceException e) when (e.Fault == PlaceFault.Other)
            {
                damaged.Add(new DamagedRecord(id, e.Message));
            }
        }
        return new StoreContents([.. copies.OrderBy(c => c.Record.Taken).DistinctBy(c => c.Record.Id)], [.. damaged]);
    }

    public CopyRecord? Read(string id) => Find(id) is { } file ? ReadFile(file, id) : null;

    public void Write(CopyRecord record)
    {
        if (Find(record.Id) is not null) throw new PlaceException(PlaceFault.Other, $"a copy {record.Id} exists already");
        place.Write($"{CopiesFolder}/{record.Id}{Ending}", record.ToBytes(keys));
    }

    public bool MoveToBin(string id, DateTimeOffset now)
    {
        if (Find(id) is not { } file) return false;
        if (file.StartsWith(BinFolder, StringComparison.Ordinal)) return true;
        place.Move(file, $"{BinFolder}/{now.UtcDateTime.ToString(BinTimeFormat, CultureInfo.InvariantCulture)}-{id}{Ending}");
        return true;
    }

    public bool TakeBack(string id)
    {
        if (Find(id) is not { } file) return false;
        if (file.StartsWith(BinFolder, StringComparison.Ordinal)) place.Move(file, $"{CopiesFolder}/{id}{Ending}");
        return true;
    }

    public void Delete(string id)
    {
        if (Find(id) is { } file) place.Delete(file);
    }

    private CopyRecord ReadFile(string file, string id)
    {
        var record = CopyRecord.FromBytes(place.Read(file), keys, file);
        return record.Id == id ? record : throw new StoreDamageException($"{file} holds the record of copy {record.Id}");
    }

    private string? Find(string id)
    {
        var plain = $"{CopiesFolder}/{id}{Ending}";
        if (place.Exists(plain)) return plain;
        foreach (var file in place.List(BinFolder))
            if (file.Name.EndsWith($"-{id}{Ending}", StringComparison.Ordinal) && ReadFileName(file.Name).Id == id) return file.Name;
        return null;
    }

    private static (string Id, DateTimeOffset? Binned) ReadFileName(string file)
    {
        var name = Path.GetFileNameWithoutExtension(file);
        if (!file.StartsWith(BinFolder + "/", StringComparison.Ordinal)) return (name, null);
        var dash = name.IndexOf('-', StringComparison.Ordinal);
        return dash > 0 && DateTimeOffset.TryParseExact(name[..dash], BinTimeFormat, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var binned)
            ? (name[(dash + 1)..], binned)
            : (name, DateTimeOffset.MaxValue);
    }
}
