using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;

namespace IronKeep.Stores.Trees;

/// <summary>
/// A file's bytes as a copy has them, each piece with the offset (bytes) at which it stands in the file; holes are passed over.
/// </summary>
public static class FileBytes
{
    public delegate void Piece(ReadOnlySpan<byte> content, long offset);

    /// <summary>Gives the pieces in their order. Damage is a <see cref="StoreDamageException"/>.</summary>
    public static void Each(IChunkSource reader, TreeEntry file, Piece give, CancellationToken cancel)
    {
        // What the listing says of the size is proven by the bytes: neither more of them nor fewer.
        var stretches =
            file.Extents is { } found ? found.AsSpan()
            : file.Size > 0 ? [new Extent(0, file.Size)]
            : [];
        var stretch = 0;
        long inside = 0;
        foreach (var id in reader.Ids(file.Content))
        {
            cancel.ThrowIfCancellationRequested();
            var content = reader.Read(id);
            while (content.Length > 0 && stretch < stretches.Length)
            {
                var length = (int)Math.Min(content.Length, stretches[stretch].Length - inside);
                give(content[..length], stretches[stretch].Offset + inside);
                content = content[length..];
                inside += length;
                if (inside == stretches[stretch].Length)
                    (stretch, inside) = (stretch + 1, 0);
            }
            if (content.Length > 0)
                throw Other(file);
        }
        if (stretch < stretches.Length)
            throw Other(file);
    }

    private static StoreDamageException Other(TreeEntry file) =>
        new($"the content is not of the {file.Size} bytes that the folder's listing names");
}
