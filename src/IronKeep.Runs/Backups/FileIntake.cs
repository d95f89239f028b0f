using System.Collections.Immutable;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;

namespace IronKeep.Runs.Backups;

/// <summary>Reads files into a lane, cut by content. One per worker, with one buffer for its life.</summary>
internal sealed class FileIntake(WritingSession.Lane lane, RunFigures figures)
{
    private const int Attempts = 3;
    private readonly byte[] buffer = new byte[4 * ContentCutter.Most];

    /// <summary>What was stored of a file; <paramref name="Torn"/> when it changed under every reading.</summary>
    public readonly record struct Intake(FileFacts Facts, long Size, ImmutableArray<ChunkId> Content, bool Torn);

    /// <summary>Reads a file until two looks at its attributes, before and after, agree; at most three times.</summary>
    public Intake Take(OpenFolder folder, byte[] name, CancellationToken cancel)
    {
        for (var attempt = 1; ; attempt++)
        {
            using var file = folder.OpenFile(name);
            var before = OpenFolder.FactsOf(file);
            if (before.Kind != EntryKind.File) throw new PosixException(2, "is no longer a file");
            var (size, content) = Read(file, cancel);
            var after = OpenFolder.FactsOf(file);
            var same = after.Size == size && after.Modified == before.Modified && after.Changed == before.Changed;
            if (same || attempt == Attempts) return new Intake(before, size, content, !same);
        }
    }

    private (long Size, ImmutableArray<ChunkId> Content) Read(Microsoft.Win32.SafeHandles.SafeFileHandle file, CancellationToken cancel)
    {
        var ids = ImmutableArray.CreateBuilder<ChunkId>();
        long offset = 0;
        int start = 0, filled = 0;
        var ended = false;
        while (true)
        {
            while (!ended && filled - start < ContentCutter.Most)
            {
                if (start > 0)
                {
                    buffer.AsSpan(start, filled - start).CopyTo(buffer);
                    (start, filled) = (0, filled - start);
                }
                cancel.ThrowIfCancellationRequested();
                var read = RandomAccess.Read(file, buffer.AsSpan(filled), offset);
                ended = read == 0;
                offset += read;
                filled += read;
                figures.Bytes(read);
            }
            if (start == filled) return (offset, ids.ToImmutable());
            var cut = ContentCutter.NextCut(buffer.AsSpan(start, filled - start));
            ids.Add(lane.Put(buffer.AsSpan(start, cut)));
            start += cut;
        }
    }
}
