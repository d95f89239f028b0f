using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Plain;

/// <summary>
/// Reads from any place of a stream that lies in pieces. The last frames are at hand, because what is read next often lies in them. For one
/// thread. Bytes that are not there, or no frame, are a <see cref="StoreDamageException"/>.
/// </summary>
internal sealed class PieceReader(IPlace place, string folder, Pieces pieces) : IDisposable
{
    private const int AtHand = 4;
    private readonly List<(int Number, byte[] Bytes)> frames = [];
    private readonly Zstd zstd = new();

    /// <summary>Fills the buffer with raw bytes from an offset on.</summary>
    public void Read(long offset, Span<byte> buffer)
    {
        if (offset < 0 || offset + buffer.Length > pieces.Raw)
            throw new StoreDamageException($"{folder} holds no bytes at {offset}: its index does not fit its archive");
        if (!pieces.IsCompressed)
        {
            Stored(offset, buffer);
            return;
        }
        while (buffer.Length > 0)
        {
            var number = (int)(offset / Pieces.Frame);
            var inside = (int)(offset % Pieces.Frame);
            var frame = FrameOf(number);
            if (inside >= frame.Length)
                throw new StoreDamageException($"{folder}: frame {number} of its archive is shorter than its index says");
            var length = Math.Min(buffer.Length, frame.Length - inside);
            frame.AsSpan(inside, length).CopyTo(buffer);
            offset += length;
            buffer = buffer[length..];
        }
    }

    private byte[] FrameOf(int number)
    {
        var at = frames.FindIndex(f => f.Number == number);
        if (at >= 0)
        {
            var found = frames[at];
            frames.RemoveAt(at);
            frames.Add(found);
            return found.Bytes;
        }
        if (number >= pieces.Starts.Length)
            throw new StoreDamageException($"{folder}: its index names no frame {number}");
        var begin = pieces.Starts[number];
        var end = number + 1 < pieces.Starts.Length ? pieces.Starts[number + 1] : pieces.Files.Sum(f => f.Bytes);
        var raw = (int)Math.Min(Pieces.Frame, pieces.Raw - (long)number * Pieces.Frame);
        if (end <= begin || end - begin > 2 * Pieces.Frame || raw < 0)
            throw new StoreDamageException($"{folder}: its index names a frame of {end - begin} bytes, which none has");
        var stored = new byte[end - begin];
        Stored(begin, stored);
        var bytes = new byte[raw];
        if (!zstd.Decompress(stored, bytes))
            throw new StoreDamageException($"{folder}: frame {number} of its archive is damaged");
        if (frames.Count >= AtHand)
            frames.RemoveAt(0);
        frames.Add((number, bytes));
        return bytes;
    }

    /// <summary>Bytes as they lie in the files, over their borders.</summary>
    private void Stored(long offset, Span<byte> buffer)
    {
        foreach (var file in pieces.Files)
        {
            if (buffer.Length == 0)
                return;
            if (offset >= file.Bytes)
            {
                offset -= file.Bytes;
                continue;
            }
            var part = buffer[..(int)Math.Min(buffer.Length, file.Bytes - offset)];
            var name = $"{folder}/{file.Name}";
            int got;
            try
            {
                got = place.ReadAt(name, offset, part);
            }
            catch (PlaceException e) when (e.Fault == PlaceFault.NotFound)
            {
                throw new StoreDamageException($"{name} is not there", e);
            }
            if (got < part.Length)
                throw new StoreDamageException($"{name} is shorter than it was written");
            buffer = buffer[part.Length..];
            offset = 0;
        }
        if (buffer.Length > 0)
            throw new StoreDamageException($"{folder}: its archive ends before its index does");
    }

    public void Dispose() => zstd.Dispose();
}
