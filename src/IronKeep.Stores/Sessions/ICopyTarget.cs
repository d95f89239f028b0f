using System.Collections.Immutable;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Sessions;

/// <summary>
/// Where copies of trees are written: a pooled store that is at hand, or one that somebody else has at hand. Whoever walks a tree knows
/// nothing else of it. Errors are those of <see cref="PooledStore"/>.
/// </summary>
public interface ICopyTarget
{
    /// <summary>Begins to write a copy, compressing at a level of Zstandard (1 to 19).</summary>
    ICopySession BeginCopy(int level);

    /// <summary>Puts in order what copies leave behind, once one is made.</summary>
    void Tidy(CancellationToken cancel);

    /// <summary>
    /// Takes back what a session stored that met the end of the room; in words what was given back, or null when there was nothing.
    /// </summary>
    string? GiveBack(ICopySession session);
}

/// <summary>The writing of one copy. Members are safe for several threads; lanes and sources are each for one.</summary>
public interface ICopySession : IDisposable
{
    /// <summary>Raw bytes of chunks that the store lacked, and what they take in it, so far.</summary>
    long NewBytes { get; }
    long StoredBytes { get; }

    /// <summary>The lane of folder listings. Whoever uses it locks it.</summary>
    IChunkLane Listings { get; }

    /// <summary>A lane for the content of files.</summary>
    IChunkLane OpenLane();

    /// <summary>A source of what earlier copies hold: their listings, and the lists of identities of large files.</summary>
    IChunkSource OpenSource();

    /// <summary>
    /// Whether every file must come whole and by itself, announced by <see cref="BeginFile"/>: an archive is written from its begin to its
    /// end. One thread then takes all content, through one lane.
    /// </summary>
    bool TakesWholeFiles => false;

    /// <summary>Whether nothing may be taken over from the copy before, so that the copy needs no other.</summary>
    bool TakesEverything => false;

    /// <summary>
    /// Announces a file whose content comes next: its path from "/" without the slash in front, what is known of it, and its stretches of
    /// data where it has holes. When the file came under another name before, its entry there; then nothing is to come.
    /// </summary>
    TreeEntry? BeginFile(ReadOnlySpan<byte> path, TreeEntry entry, ImmutableArray<Extent>? extents) => null;

    /// <summary>
    /// Ends the file that was announced, with the entry that came of it; null: it changed meanwhile and is announced once more.
    /// </summary>
    void EndFile(TreeEntry? entry) { }

    /// <summary>
    /// Whether a chunk seems to be there already, so that the copy can count on it: one of content at depth 0, a list of identities above
    /// that.
    /// </summary>
    bool CountsOn(ChunkId id, int depth);

    /// <summary>The length of a chunk in bytes, or 0 when none of this identity is known.</summary>
    int LengthOf(ChunkId id);

    /// <summary>
    /// Makes all that was put durable and writes the record, which says besides what was stored: the commit point. No lane may be used any
    /// more.
    /// </summary>
    CopyRecord Commit(CopyRecord record);
}

/// <summary>One worker's way into a session.</summary>
public interface IChunkLane : IDisposable
{
    /// <summary>The identity that content has there.</summary>
    ChunkId IdOf(ReadOnlySpan<byte> content);

    /// <summary>
    /// Stores a chunk of this identity unless it is there; the content may be at most <see cref="ContentCutter.Most"/> bytes.
    /// </summary>
    ChunkId Put(ReadOnlySpan<byte> content, ChunkId id);

    /// <summary>A reference to content of these chunks; long lists of identities become chunks themselves.</summary>
    ContentRef Refer(IReadOnlyList<ChunkId> ids);
}

/// <summary>Reads chunks of earlier copies; absence and damage are <see cref="StoreDamageException"/>.</summary>
public interface IChunkSource : IDisposable
{
    /// <summary>The raw bytes of a chunk, valid until the next call.</summary>
    ReadOnlySpan<byte> Read(ChunkId id);

    /// <summary>The same of a part of a folder's listing.</summary>
    ReadOnlySpan<byte> ReadListing(ChunkId id) => Read(id);

    /// <summary>The identities of the content's chunks in their order, lists resolved as they are come to.</summary>
    IEnumerable<ChunkId> Ids(ContentRef content);

    /// <summary>Says which chunks of content will be read next, in this order; who has them far away may fetch them together.</summary>
    void Expect(IEnumerable<ChunkId> ids) { }
}
