using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Exports;

/// <summary>
/// Writes a copy as a tar archive in the pax format; see <see cref="PaxWriter"/>. Holes are written as zeros.
/// </summary>
public sealed class PaxTar(Stream output, Action<long, long>? progress = null)
{
    private readonly PaxWriter pax = new(output);
    private readonly Dictionary<(ulong, ulong), byte[]> linked = [];

    /// <summary>Entries written, and sockets left out.</summary>
    public (long Written, long LeftOut) Write(ITreeSource store, CopyRecord record, IReadOnlyList<string> paths, CancellationToken cancel)
    {
        long written = 0,
            left = 0;
        using var reader = store.OpenTree();
        foreach (var (path, entry) in CopyWalk.Of(store, record, paths))
        {
            cancel.ThrowIfCancellationRequested();
            if (entry.Kind == EntryKind.Socket)
            {
                left++;
                continue;
            }
            Entry(path.Span, entry, reader, cancel);
            written++;
            progress?.Invoke(written, pax.Position);
        }
        pax.End();
        return (written, left);
    }

    private void Entry(ReadOnlySpan<byte> path, TreeEntry entry, IChunkSource reader, CancellationToken cancel)
    {
        if (entry is { Links: > 1, Kind: not EntryKind.Folder })
        {
            if (linked.TryGetValue((entry.Device, entry.Inode), out var first))
            {
                pax.Link(path, entry, first);
                return;
            }
            linked[(entry.Device, entry.Inode)] = path.ToArray();
        }
        pax.Begin(path, entry);
        if (entry.Kind != EntryKind.File)
            return;
        CopyWalk.WriteContent(reader, entry, pax.Content, cancel);
        pax.Fill();
    }
}
