using System.Security.Cryptography;
using System.Text;
using IronKeep.Core.Dated;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Restores;

namespace IronKeep.Stores.Dated;

/// <summary>Giving back dated files: the file, and what it needs below it, under their own names.</summary>
public sealed partial class DatedStore
{
    private const int MostBeside = 1000;

    public RestoreReport Restore(
        CopyRecord record,
        IReadOnlyList<string> paths,
        string target,
        RestoreManner manner,
        CancellationToken cancel
    )
    {
        var look = Look();
        if (!look.Copies.TryGetValue(record.Id, out var wanted))
            throw new StoreDamageException($"copy {record.Id} is not in the folder any more");
        var chain = DatedChains.Needed(
            wanted,
            [.. look.Copies.Values.Where(c => c.Name.Job == wanted.Name.Job && c.Name.Machine == wanted.Name.Machine)],
            c => c.Taken,
            c => c.Name.Kind
        );
        using var root = folder.Open();
        using var into = TargetFolder.Open(target, manner.Forbidden);
        long files = 0,
            bytes = 0,
            over = 0,
            beside = 0;
        var problems = new List<RestoreProblem>();
        foreach (var copy in chain.Reverse())
        {
            try
            {
                using var source = root.OpenFile(copy.Mark.Path);
                var size = bytes;
                var name = NameOf(copy.IsInBin ? RestOf(copy.Mark.Path) : copy.Mark.Path);
                var result = WriteOne(source, into, name, copy.Mark, manner, done => manner.Progress?.Invoke(files, size + done), cancel);
                if (result < 0)
                {
                    problems.Add(
                        new RestoreProblem(
                            copy.Id,
                            "exists already and was left as it is; restore to an empty folder, beside it, or over it"
                        )
                    );
                    continue;
                }
                files++;
                bytes += copy.Mark.Size;
                if (result == 1)
                    over++;
                if (result == 2)
                    beside++;
            }
            catch (Exception e) when (e is PosixException || e is PlaceException { Fault: not PlaceFault.Unreachable })
            {
                problems.Add(new RestoreProblem(copy.Id, $"cannot be given back: {e.Message}"));
            }
        }
        if (DatedChains.Lacks(chain, c => c.Name.Kind))
            problems.Add(new RestoreProblem(record.Id, "the full copy that it needs is not there"));
        return new RestoreReport(files, 0, 0, bytes, over, beside, problems);
    }

    /// <summary>0: written; 1: over another; 2: beside another; -1: there was one, and it was left.</summary>
    private static int WriteOne(
        ISourceFile source,
        OpenFolder into,
        byte[] name,
        FileMark mark,
        RestoreManner manner,
        Action<long> progress,
        CancellationToken cancel
    )
    {
        if (manner.Existing == ExistingRule.Keep && into.Facts(name) is not null)
            return -1;
        var staged = Encoding.ASCII.GetBytes($".ironkeep-restore-{RandomNumberGenerator.GetHexString(12, lowercase: true)}");
        try
        {
            using (var handle = into.NewFile(staged))
            using (var output = new FileStream(handle, FileAccess.Write, 1))
            {
                var buffer = new byte[1024 * 1024];
                for (long at = 0; ; )
                {
                    cancel.ThrowIfCancellationRequested();
                    var read = source.Read(buffer, at);
                    if (read == 0)
                        break;
                    output.Write(buffer, 0, read);
                    progress(at += read);
                }
                output.Flush(flushToDisk: true);
            }
            if (!mark.Is(source.Facts()))
                throw new PlaceException(PlaceFault.Other, "it changed while it was read");
            into.SetModified(staged, new FileTime(Math.DivRem(mark.Modified, 1_000_000_000, out var rest), (uint)Math.Max(0, rest)));
            for (var i = 0; ; i++)
            {
                var overwrites = manner.Existing == ExistingRule.Overwrite && into.Facts(name) is not null;
                try
                {
                    into.RenameTo(into, staged, EntryWriter.Beside(name, i), replace: overwrites);
                    into.Flush();
                    return overwrites ? 1
                        : i > 0 ? 2
                        : 0;
                }
                catch (PosixException e) when (e.Exists && manner.Existing == ExistingRule.Beside && i < MostBeside)
                {
                    // The next name.
                }
                catch (PosixException e) when (e.Exists && manner.Existing == ExistingRule.Keep)
                {
                    return -1;
                }
            }
        }
        finally
        {
            into.Remove(staged);
        }
    }
}
