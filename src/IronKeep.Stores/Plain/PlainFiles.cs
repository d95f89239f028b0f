using System.Globalization;
using System.Text;
using IronKeep.Core.Dated;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Plain;

/// <summary>The files of a copy in the plain layout, and what they say to somebody who has nothing but them.</summary>
internal static class PlainFiles
{
    public const string Readme = "README.txt",
        Manifest = "SHA256SUMS",
        Deletions = "deleted.list",
        Sums = "archive.sha256",
        Index = "index",
        Listing = "listing.zst",
        Archive = "archive.tar",
        CompressedArchive = "archive.tar.zst";

    /// <summary>
    /// What the copy is and how it is restored without us. <paramref name="chain"/> are the copies in the order in which they are unpacked,
    /// this one last; <paramref name="broken"/> are paths of files that were not read to their end.
    /// </summary>
    public static string ReadmeOf(IReadOnlyList<CopyRecord> chain, IReadOnlyList<byte[]> broken)
    {
        var record = chain[^1];
        var steps = new StringBuilder();
        foreach (var copy in chain)
        {
            var folder = copy.Id == record.Id ? "." : $"../{copy.Id}";
            if (copy.Kind is CopyKind.Incremental or CopyKind.Differential)
                steps.Append(CultureInfo.InvariantCulture, $"  (cd /restored && xargs -0 -r rm -rf --) < {folder}/{Deletions}\n");
            var archive = copy.Files.Any(f => f.Name.StartsWith(CompressedArchive, StringComparison.Ordinal))
                ? $"cat {folder}/{CompressedArchive}.* | zstd -dc"
                : $"cat {folder}/{Archive}.*";
            steps.Append(CultureInfo.InvariantCulture, $"  {archive} | tar --xattrs --xattrs-include='*' -C /restored -xpf -\n");
        }
        return string.Create(
            CultureInfo.InvariantCulture,
            $"""
            This folder is a backup copy. It is made of ordinary files: tar, zstd and sha256sum are all that is needed.

            Copy    {record.Id}
            Job     {record.Job} of machine {record.Machine}
            Taken   {record.Taken.UtcDateTime:yyyy-MM-dd HH:mm:ss} UTC
            Of      {string.Join("\n        ", record.Takes)}
            Kind    {KindWords(record)}

            To restore it, make an empty folder /restored and run these in this folder, in this order, as root so that owners are kept:

            {steps}
            To see whether the archive is what was written:

              sha256sum --quiet -c {Sums}

            {(record.Files.First(f => f.Name == Manifest).Bytes > 0 ? CheckFiles : "There are no files in this archive.")}

            {BrokenWords(broken)}The files {Index} and {Listing} help a program to find single files fast; nobody else needs them.

            """
        );
    }

    /// <summary>Files that could not be read to their end: so many are named.</summary>
    public const int MostBroken = 100;

    private static string BrokenWords(IReadOnlyList<byte[]> broken) =>
        broken.Count == 0
            ? ""
            : $"These could not be read to their end; the archive has only their begin, and zeros for the rest:\n\n  "
                + string.Join("\n  ", broken.Take(MostBroken).Select(p => NameText.Show(p)))
                + (broken.Count > MostBroken ? "\n  and more, which the log of the run names\n\n" : "\n\n");

    private const string CheckFiles = $"""
        To see whether the files of this archive came back as they were:

          SUMS=$PWD/{Manifest}; cd /restored && sha256sum --quiet -c "$SUMS"
        """;

    private static string KindWords(CopyRecord record) =>
        record.Kind switch
        {
            CopyKind.Incremental => $"incremental: what changed since copy {record.Base}, without which it is worth little",
            CopyKind.Differential => $"differential: what changed since the full copy {record.Base}, without which it is worth little",
            _ => "full: it needs no other copy",
        };
}
