using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Restores;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Exports;

/// <summary>
/// Writes a copy as a bag (RFC 8493) in a new folder: the restored tree below <c>data/</c>, its SHA-256 manifest, which
/// <c>sha256sum -c</c> takes as it is, and what a bag cannot say in files of its own. The manifest's hashes are those of the content as the
/// store proves it, not of what was just written: checking the bag proves the writing too.
/// </summary>
public static class Bag
{
    /// <summary>
    /// Files in the bag, and what the restore had to say. The bag is made where nobody else can enter and gets its name when it is whole; a
    /// folder that is not empty, and a forbidden one, are refused with an <see cref="IOException"/>.
    /// </summary>
    public static (long Files, RestoreReport Report) Write(
        ITreeSource store,
        CopyRecord record,
        IReadOnlyList<string> paths,
        string folder,
        CancellationToken cancel,
        ForbiddenFolders? forbidden = null
    )
    {
        folder = folder.TrimEnd('/');
        var name = Encoding.UTF8.GetBytes(Path.GetFileName(folder));
        var above = Path.GetDirectoryName(folder) is { Length: > 0 } parent ? parent : ".";
        if (name.Length == 0)
            throw new IOException($"{folder} cannot be a bag; name a new folder");
        using var into = TargetFolder.Open(above, forbidden);
        if (forbidden?.Reason(into.RealPath().TrimEnd('/') + "/" + Path.GetFileName(folder)) is { } why)
            throw new IOException($"{folder} cannot be written: {why}");
        if (into.Facts(name) is { } there && (there.Kind != EntryKind.Folder || !IsEmpty(into, name)))
            throw new IOException($"{folder} is not empty; name a new folder for the bag");
        var part = Encoding.ASCII.GetBytes($".ironkeep-bag-{Guid.NewGuid():n}");
        into.MakeFolder(part);
        using var made = into.Enter(part);
        if (made.Facts().Inode != into.Facts(part)?.Inode || made.Facts().User != Native.EffectiveUser())
            throw new IOException(
                $"the folder in which the bag is made was replaced by somebody; name a folder in a place that nobody else can write to"
            );
        try
        {
            var done = Fill(store, record, paths, made.KernelPath, forbidden, cancel);
            into.RenameTo(into, part, name, replace: true);
            into.Flush();
            return done;
        }
        catch
        {
            // What stands in it under odd names stays; the message names why the bag is not there.
            try
            {
                Directory.Delete(Path.Combine(into.RealPath(), Encoding.ASCII.GetString(part)), recursive: true);
            }
            catch (IOException) { }
            catch (UnauthorizedAccessException) { }
            throw;
        }
    }

    private static bool IsEmpty(OpenFolder above, byte[] name)
    {
        using var folder = above.Enter(name);
        return folder.List().Count == 0;
    }

    private static (long Files, RestoreReport Report) Fill(
        ITreeSource store,
        CopyRecord record,
        IReadOnlyList<string> paths,
        string folder,
        ForbiddenFolders? forbidden,
        CancellationToken cancel
    )
    {
        using var restorer = new TreeRestorer(store, forbidden: forbidden);
        var report = restorer.Restore(record, paths, Path.Combine(folder, "data"), cancel);
        long files = 0,
            bytes = 0;
        var others = new StringBuilder();
        using (var manifest = File.Create(Path.Combine(folder, "manifest-sha256.txt")))
        using (var reader = store.OpenTree())
        {
            foreach (var (path, entry) in CopyWalk.Of(store, record, paths))
            {
                cancel.ThrowIfCancellationRequested();
                if (entry.Kind is not (EntryKind.File or EntryKind.Folder))
                    others.Append(
                        CultureInfo.InvariantCulture,
                        $"{entry.Kind}\t{NameText.Show(path.Span)}\t{NameText.Show(entry.LinkTarget)}\n"
                    );
                if (entry.Kind != EntryKind.File)
                    continue;
                using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
                CopyWalk.WriteContent(reader, entry, hash.AppendData, cancel);
                manifest.Write(SumLine.Of(hash.GetHashAndReset(), [.. "data/"u8, .. path.Span]));
                files++;
                bytes += entry.Size;
            }
        }
        File.WriteAllText(Path.Combine(folder, "bagit.txt"), "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n");
        File.WriteAllText(
            Path.Combine(folder, "bag-info.txt"),
            string.Create(
                CultureInfo.InvariantCulture,
                $"Bagging-Date: {record.Ended.UtcDateTime:yyyy-MM-dd}\nExternal-Identifier: {record.Id}\nExternal-Description: job "
                    + $"{record.Job} of machine {record.Machine}, taken {record.Taken.UtcDateTime:yyyy-MM-ddTHH:mm:ssZ}\nPayload-Oxum: "
                    + $"{bytes}.{files}\n"
            )
        );
        if (others.Length > 0)
            File.WriteAllText(Path.Combine(folder, "links-and-devices.tsv"), others.ToString());
        var tags = new StringBuilder();
        foreach (var file in Directory.EnumerateFiles(folder).Order(StringComparer.Ordinal))
            tags.Append(
                CultureInfo.InvariantCulture,
                $"{Convert.ToHexStringLower(SHA256.HashData(File.ReadAllBytes(file)))}  {Path.GetFileName(file)}\n"
            );
        File.WriteAllText(Path.Combine(folder, "tagmanifest-sha256.txt"), tags.ToString());
        return (files, report);
    }
}
