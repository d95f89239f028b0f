using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Backups;

/// <summary>
/// The figures of a running backup, stage by stage (bytes): <b>selected</b> is the size of all files taken, <b>read</b> what had to be
/// read because it changed, <b>new</b> what the store lacked, <b>stored</b> what that takes compressed. Safe for several threads.
/// </summary>
public sealed class RunFigures
{
    /// <summary>Where the stored bytes are counted.</summary>
    internal WritingSession? Session { get; set; }

    private long items,
        selected,
        read,
        skipped,
        changed,
        moving;

    public long Items => Interlocked.Read(ref items);
    public long SelectedBytes => Interlocked.Read(ref selected);
    public long ReadBytes => Interlocked.Read(ref read);
    public long NewBytes => Session?.NewBytes ?? 0;
    public long StoredBytes => Session?.StoredBytes ?? 0;
    public long Skipped => Interlocked.Read(ref skipped);

    /// <summary>Files whose content had to be read.</summary>
    public long FilesRead => Interlocked.Read(ref changed);

    /// <summary>
    /// Bytes of content that were read of files which are not counted among the items yet: what shows that a large file moves.
    /// </summary>
    public long Moving => Interlocked.Read(ref moving);

    internal void Move(long bytes) => Interlocked.Add(ref moving, bytes);

    internal void Settle() => Interlocked.Exchange(ref moving, 0);

    internal void Add(long count, long size)
    {
        Interlocked.Add(ref items, count);
        Interlocked.Add(ref selected, size);
    }

    internal void FileRead() => Interlocked.Increment(ref changed);

    internal void Bytes(long count) => Interlocked.Add(ref read, count);

    internal void Skip() => Interlocked.Increment(ref skipped);
}
