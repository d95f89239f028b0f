using System.Runtime.InteropServices;

namespace IronKeep.Stores.Posix;

/// <summary>
/// A file held open by its descriptor: reading and writing at offsets, its stretches of data, its attributes. Cheaper than the
/// standard library's, which asks for more than is needed at every opening. Errors are <see cref="PosixException"/>.
/// </summary>
public sealed unsafe class OpenFile(int descriptor) : ISourceFile
{
    private int fd = descriptor;

    public int Descriptor => fd;

    public FileFacts Facts() => OpenFolder.FactsOf(fd);

    /// <summary>Fills the buffer from an offset; fewer bytes only at the end of the file.</summary>
    public int Read(Span<byte> buffer, long offset)
    {
        var total = 0;
        fixed (byte* start = buffer)
        {
            while (total < buffer.Length)
            {
                var read = Native.ReadAt(fd, start + total, (nuint)(buffer.Length - total), offset + total);
                if (read < 0)
                    throw Failed("cannot be read");
                if (read == 0)
                    break;
                total += (int)read;
            }
        }
        return total;
    }

    public void Write(ReadOnlySpan<byte> content, long offset)
    {
        fixed (byte* start = content)
        {
            for (var done = 0; done < content.Length; )
            {
                var written = Native.WriteAt(fd, start + done, (nuint)(content.Length - done), offset + done);
                if (written < 0)
                    throw Failed("cannot be written");
                done += (int)written;
            }
        }
    }

    /// <summary>Gives the file its size; what was never written stays a hole.</summary>
    public void SetSize(long size) => Check(Native.Truncate(fd, size), "cannot be given its size");

    /// <summary>
    /// The stretches that hold data, or null when the file system cannot tell. More than <paramref name="most"/> are joined over their
    /// smallest holes.
    /// </summary>
    public List<Extent>? Extents(long size, int most)
    {
        var found = new List<Extent>();
        for (long at = 0; at < size; )
        {
            var data = Native.Seek(fd, at, Native.SeekData);
            if (data < 0)
            {
                const int noMoreData = 6;
                if (Marshal.GetLastPInvokeError() == noMoreData)
                    break;
                return null;
            }
            var hole = Native.Seek(fd, data, Native.SeekHole);
            if (hole < 0)
                return null;
            hole = Math.Min(hole, size);
            if (hole > data)
                found.Add(new Extent(data, hole - data));
            at = Math.Max(hole, data + 1);
        }
        for (long least = 8192; found.Count > most; least *= 2)
            found = Join(found, least);
        return found;
    }

    private static List<Extent> Join(List<Extent> extents, long least)
    {
        var joined = new List<Extent> { extents[0] };
        foreach (var next in extents.Skip(1))
        {
            var last = joined[^1];
            if (next.Offset - (last.Offset + last.Length) < least)
                joined[^1] = last with { Length = next.Offset + next.Length - last.Offset };
            else
                joined.Add(next);
        }
        return joined;
    }

    public List<NamedAttribute> Attributes() => NamedAttributes.Of(fd);

    public void SetAttribute(NamedAttribute attribute) => NamedAttributes.Set(fd, attribute);

    public void SetOwner(uint user, uint group) => Check(Native.ChangeOwner(fd, user, group), "cannot set the owner");

    public void SetMode(uint mode) => Check(Native.ChangeMode(fd, mode), "cannot set the mode");

    /// <summary>Sets access and modification time alike.</summary>
    public void SetModified(FileTime time)
    {
        var times = stackalloc long[] { time.Seconds, time.Nanoseconds, time.Seconds, time.Nanoseconds };
        Check(Native.SetTimes(fd, times), "cannot set the times");
    }

    public void Dispose()
    {
        if (fd >= 0)
            _ = Native.Close(fd);
        fd = -1;
    }

    private static void Check(int result, string what)
    {
        if (result != 0)
            throw Failed(what);
    }

    private static PosixException Failed(string what) => new(Marshal.GetLastPInvokeError(), what);
}
