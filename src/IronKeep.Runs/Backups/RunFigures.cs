using IronKeep.Core.Watching;
using IronKeep.Stores.Sessions;

namespace IronKeep.Runs.Backups;

/// <summary>Figures of a run as one machine tells them to another; see <see cref="RunFigures"/>.</summary>
public sealed record SaidFigures(
    long Items,
    long SelectedBytes,
    long ReadBytes,
    long Skipped,
    long FilesRead,
    long Known,
    long Altered,
    long Gone,
    long Added,
    long Moving
);

/// <summary>
/// The figures of a running backup, stage by stage (bytes): <b>selected</b> is the size of all files taken, <b>read</b> what had to be
/// read because it changed, <b>new</b> what the store lacked, <b>stored</b> what that takes compressed. Safe for several threads.
/// </summary>
public sealed class RunFigures
{
    /// <summary>Where the stored bytes are counted.</summary>
    internal ICopySession? Session { get; set; }

    /// <summary>The same where the copy arrives from another machine.</summary>
    public Func<(long NewBytes, long StoredBytes)>? Arriving { get; set; }

    private long items,
        selected,
        read,
        skipped,
        changed,
        known,
        altered,
        gone,
        added,
        moving;

    public long Items => Interlocked.Read(ref items);
    public long SelectedBytes => Interlocked.Read(ref selected);
    public long ReadBytes => Interlocked.Read(ref read);
    public long NewBytes => Session?.NewBytes ?? Arriving?.Invoke().NewBytes ?? 0;
    public long StoredBytes => Session?.StoredBytes ?? Arriving?.Invoke().StoredBytes ?? 0;
    public long Skipped => Interlocked.Read(ref skipped);

    /// <summary>Files whose content had to be read.</summary>
    public long FilesRead => Interlocked.Read(ref changed);

    /// <summary>
    /// Bytes of content that were read of files which are not counted among the items yet: what shows that a large file moves.
    /// </summary>
    public long Moving => Interlocked.Read(ref moving);

    /// <summary>
    /// What became of the files of the copy before: those that are here still and those of them whose content is another, those that are
    /// gone, and files that it did not have. Of what is skipped only the first is known.
    /// </summary>
    public Churn Churn =>
        new(Interlocked.Read(ref known), Interlocked.Read(ref altered), Interlocked.Read(ref gone), Interlocked.Read(ref added));

    /// <summary>Takes over what another machine says of a run there, in place of what was counted here.</summary>
    public void Take(SaidFigures said)
    {
        (items, selected, read, skipped, changed) = (said.Items, said.SelectedBytes, said.ReadBytes, said.Skipped, said.FilesRead);
        (known, altered, gone, added, moving) = (said.Known, said.Altered, said.Gone, said.Added, said.Moving);
    }

    /// <summary>The figures as they are told to another machine.</summary>
    public SaidFigures Say() =>
        new(Items, SelectedBytes, ReadBytes, Skipped, FilesRead, Churn.Known, Churn.Altered, Churn.Gone, Churn.Added, Moving);

    internal void Known(long count) => Interlocked.Add(ref known, count);

    internal void Altered(long count) => Interlocked.Add(ref altered, count);

    internal void Gone(long count) => Interlocked.Add(ref gone, count);

    internal void Added(long count) => Interlocked.Add(ref added, count);

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
