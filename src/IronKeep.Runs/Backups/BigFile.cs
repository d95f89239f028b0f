using IronKeep.Stores.Chunks;
using IronKeep.Stores.Posix;

namespace IronKeep.Runs.Backups;

/// <summary>A file so large that several workers take stretches of it. Whoever ends the last stretch makes its entry.</summary>
internal sealed class BigFile(
    Gap gap,
    byte[] name,
    ISourceFile file,
    FileFacts facts,
    FileContent content,
    ContentRef? was,
    CutsBefore? before
)
{
    private readonly List<ChunkId>[] stretches = new List<ChunkId>[(content.Length + ContentCutter.Stretch - 1) / ContentCutter.Stretch];
    private long read;
    private int left = (int)((content.Length + ContentCutter.Stretch - 1) / ContentCutter.Stretch);

    public Gap Gap => gap;
    public byte[] Name => name;
    public ISourceFile File => file;
    public FileFacts Facts => facts;
    public FileContent Content => content;

    /// <summary>Its content in the copy before; null when it was not there.</summary>
    public ContentRef? Was => was;
    public int Stretches => stretches.Length;

    /// <summary>Bytes read of the content; fewer than it has when the file shrank.</summary>
    public long Read => Interlocked.Read(ref read);

    /// <summary>Whether a stretch could not be read, and why.</summary>
    public IOException? Failure { get; set; }

    public List<ChunkId> Chunks => [.. stretches.SelectMany(s => s ?? [])];

    /// <summary>Takes one stretch; true for the caller who ended the last.</summary>
    public bool Take(int stretch, FileIntake intake, CancellationToken cancel)
    {
        var from = stretch * ContentCutter.Stretch;
        var to = Math.Min(content.Length, from + ContentCutter.Stretch);
        try
        {
            stretches[stretch] = intake.Take(content, from, to, before, out var taken, cancel);
            Interlocked.Add(ref read, taken);
        }
        catch (PosixException e)
        {
            Failure = e;
        }
        return Interlocked.Decrement(ref left) == 0;
    }
}
