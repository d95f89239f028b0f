using System.Collections.Immutable;
using IronKeep.Stores.Posix;

namespace IronKeep.Runs.Backups;

/// <summary>Bytes to be taken, from their beginning on.</summary>
internal interface IContentBytes
{
    /// <summary>Fills the buffer from a position on; fewer bytes at the end.</summary>
    int Read(Span<byte> buffer, long position);
}

/// <summary>What comes through a pipe; only the next position can be read.</summary>
internal sealed class PipedContent(Stream pipe) : IContentBytes
{
    public int Read(Span<byte> buffer, long position) => pipe.ReadAtLeast(buffer, buffer.Length, throwOnEndOfStream: false);
}

/// <summary>
/// The bytes of an open file that hold data, as if they lay one after the other: all of it, or of a file with holes its stretches of
/// data. Lengths are bytes.
/// </summary>
internal sealed class FileContent : IContentBytes
{
    /// <summary>More stretches than this are joined over their smallest holes.</summary>
    private const int MostExtents = 4096;
    private const int Block = 512;

    private readonly ISourceFile file;
    private readonly ImmutableArray<Extent> stretches;
    private readonly long[] starts;

    public FileContent(ISourceFile file, in FileFacts facts)
    {
        this.file = file;
        // Fewer blocks than bytes: there may be holes. A file system that compresses looks the same and has none.
        if (
            facts.Blocks * Block < facts.Size
            && file.Extents(facts.Size, MostExtents) is { } found
            && Whole(found, facts.Size) is var blocks
            && blocks.Sum(e => e.Length) < facts.Size
        )
            Extents = blocks;
        stretches = Extents ?? [new Extent(0, facts.Size)];
        starts = new long[stretches.Length];
        for (var i = 0; i < starts.Length; i++)
        {
            starts[i] = Length;
            Length += stretches[i].Length;
        }
    }

    /// <summary>
    /// The stretches in whole blocks, but for the file's end, joined where they meet: archives hold data block by block.
    /// </summary>
    private static ImmutableArray<Extent> Whole(IEnumerable<Extent> found, long size)
    {
        var whole = ImmutableArray.CreateBuilder<Extent>();
        foreach (var extent in found)
        {
            var from = extent.Offset / Block * Block;
            var to = Math.Min(size, (extent.Offset + extent.Length + Block - 1) / Block * Block);
            if (whole.Count > 0 && whole[^1].Offset + whole[^1].Length >= from)
            {
                from = whole[^1].Offset;
                whole.RemoveAt(whole.Count - 1);
            }
            whole.Add(new Extent(from, to - from));
        }
        return whole.ToImmutable();
    }

    /// <summary>Null for a file without holes.</summary>
    public ImmutableArray<Extent>? Extents { get; }

    /// <summary>Bytes of data.</summary>
    public long Length { get; }

    /// <summary>Fills the buffer from a position in the data; fewer bytes at its end, or where the file has become shorter.</summary>
    public int Read(Span<byte> buffer, long position)
    {
        if (Extents is null)
            return file.Read(buffer, position);
        var total = 0;
        var i = Array.BinarySearch(starts, position);
        if (i < 0)
            i = ~i - 1;
        for (; i >= 0 && i < stretches.Length && total < buffer.Length; i++)
        {
            var inside = position + total - starts[i];
            var wanted = (int)Math.Min(buffer.Length - total, stretches[i].Length - inside);
            if (wanted <= 0)
                continue;
            var read = file.Read(buffer.Slice(total, wanted), stretches[i].Offset + inside);
            total += read;
            if (read < wanted)
                break;
        }
        return total;
    }
}
