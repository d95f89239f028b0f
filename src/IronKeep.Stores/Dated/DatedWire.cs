using System.Security.Cryptography;
using System.Text;
using IronKeep.Stores.Places;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Dated;

/// <summary>
/// How a folder of dated files is worked in over a line: further verbs of <see cref="PlaceWire"/>. Source: docs/sending.md (A store on a
/// machine).
/// </summary>
internal static class DatedWire
{
    /// <summary>What stands in a listing for a name that is no text; no entry has it.</summary>
    public const string NoText = "/";

    public static PlaceWire.Writer Facts(this PlaceWire.Writer to, FileFacts facts) =>
        to.Number((long)facts.Kind)
            .Number(facts.Size)
            .Number(facts.Modified.Seconds)
            .Number(facts.Modified.Nanoseconds)
            .Number(facts.Changed.Seconds)
            .Number(facts.Changed.Nanoseconds);

    public static FileFacts Facts(this ref PlaceWire.Reader from)
    {
        var (kind, size) = (from.Number(), from.Number());
        var (modified, changed) = (Time(ref from), Time(ref from));
        if (kind is < (long)EntryKind.File or > (long)EntryKind.CharacterDevice || size < 0)
            throw new PlaceException(PlaceFault.Other, "what came over the line is no file");
        return new FileFacts((EntryKind)kind, 0, 0, 0, size, 0, 0, 0, 0, 1, modified, changed);
    }

    private static FileTime Time(ref PlaceWire.Reader from) => new(from.Number(), (uint)Math.Clamp(from.Number(), 0, 999_999_999));

    /// <summary>By what a listing is known again.</summary>
    public static byte[] MarkOf(IReadOnlyList<FolderEntry> entries)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (var entry in entries)
        {
            var f = entry.Facts;
            hash.AppendData(
                Encoding.UTF8.GetBytes(
                    string.Create(
                        System.Globalization.CultureInfo.InvariantCulture,
                        $"{entry.Name ?? NoText}\0{(int)f.Kind} {f.Size} {f.Modified} {f.Changed}\n"
                    )
                )
            );
        }
        return hash.GetHashAndReset();
    }
}

/// <summary>
/// Answers calls to a folder of dated files on this machine. Whoever calls is believed in nothing: paths stay below the folder, and no link
/// is followed.
/// </summary>
internal sealed class ServedDated(LocalDatedFolder folder)
{
    /// <summary>A listing that is sent in parts is kept until the last of them was asked for.</summary>
    private const int MostKept = 16;
    private readonly Lock door = new();
    private readonly List<(string Folder, IReadOnlyList<FolderEntry> Entries)> kept = [];

    /// <summary>Does what a verb asks for; false: it is none of these.</summary>
    public bool Do(PlaceVerb verb, ref PlaceWire.Reader read, PlaceWire.Writer to)
    {
        switch (verb)
        {
            case PlaceVerb.DatedWritable:
                to.Rest(Encoding.UTF8.GetBytes(folder.WhyNotWritable ?? ""));
                return true;
            case PlaceVerb.DatedList:
                List(Below(read.Name(), orTop: true), read.Number(), read.Rest(), to);
                return true;
        }
        if (verb is < PlaceVerb.DatedFacts or > PlaceVerb.DatedRemoveFolder)
            return false;
        using var root = folder.Open();
        var path = Below(read.Name());
        switch (verb)
        {
            case PlaceVerb.DatedFacts:
                if (root.Facts(path) is { } facts)
                    to.Facts(facts);
                break;
            case PlaceVerb.DatedReadAt:
                ReadAt(root, path, read.Number(), read.Number(), to);
                break;
            case PlaceVerb.DatedHash:
                var hashed = root.Hash(path, null, CancellationToken.None);
                to.Facts(hashed.Before).Facts(hashed.After).Name(hashed.Sum);
                break;
            case PlaceVerb.DatedMove:
                root.Move(path, Below(read.Name()));
                break;
            case PlaceVerb.DatedRemove:
                root.Remove(path);
                break;
            default:
                to.Number(root.RemoveFolder(path) ? 1 : 0);
                break;
        }
        return true;
    }

    /// <summary>
    /// The listing from an entry on: where the topmost folder lies (its file system's number and its own), how many entries there are in
    /// all (-1: no such folder), how many follow, these, and the mark. Who names the mark gets none.
    /// </summary>
    private void List(string path, long from, ReadOnlySpan<byte> known, PlaceWire.Writer to)
    {
        var facts = folder.Where;
        to.Number(unchecked((long)facts.Device)).Number(unchecked((long)facts.Inode));
        if (Entries(path, from) is not { } entries)
        {
            to.Number(-1);
            return;
        }
        var mark = DatedWire.MarkOf(entries);
        to.Number(entries.Count);
        if (from == 0 && known.SequenceEqual(mark))
        {
            to.Number(-1);
            return;
        }
        var (room, part) = (PlaceWire.MostContent, new List<FolderEntry>());
        for (var i = (int)Math.Clamp(from, 0, entries.Count); i < entries.Count; i++)
        {
            room -= 2 + (6 * 8) + Encoding.UTF8.GetByteCount(entries[i].Name ?? DatedWire.NoText);
            if (room < 0)
                break;
            part.Add(entries[i]);
        }
        to.Number(part.Count);
        foreach (var entry in part)
            to.Name(entry.Name ?? DatedWire.NoText).Facts(entry.Facts);
        to.Rest(mark);
        if (from + part.Count >= entries.Count)
            lock (door)
                kept.RemoveAll(k => k.Folder == path);
    }

    /// <summary>What was listed when the first part was asked for, for the parts that follow.</summary>
    private IReadOnlyList<FolderEntry>? Entries(string path, long from)
    {
        lock (door)
            if (from > 0 && kept.FindLast(k => k.Folder == path).Entries is { } before)
                return before;
        using var root = folder.Open();
        if (root.List(path) is not { } entries)
            return null;
        lock (door)
        {
            kept.RemoveAll(k => k.Folder == path);
            if (entries.Count > 0)
                kept.Add((path, entries));
            if (kept.Count > MostKept)
                kept.RemoveAt(0);
        }
        return entries;
    }

    private static void ReadAt(IDatedRoot root, string path, long offset, long length, PlaceWire.Writer to)
    {
        if (offset < 0 || length is < 0 or > PlaceWire.MostContent)
            throw new PlaceException(PlaceFault.Other, $"{length} bytes from {offset} on are asked for, which nobody reads");
        using var file = root.OpenFile(path);
        // A pipe would be waited for.
        if (file.Facts().Kind != EntryKind.File)
            throw new PlaceException(PlaceFault.Other, "it is no file");
        var content = new byte[length];
        to.Rest(content.AsSpan(0, file.Read(content, offset)));
    }

    private static string Below(string path, bool orTop = false) =>
        path.Length <= PlaceWire.MostName
        && !path.Contains('\0')
        && (path.Length == 0 ? orTop : path.Split('/').All(p => p.Length > 0 && p is not ("." or "..")))
            ? path
            : throw new PlaceException(PlaceFault.Other, "a path is asked for that leads out of the folder, or to none");
}
