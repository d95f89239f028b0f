using System.Collections.Immutable;

namespace IronKeep.Stores.Chunks;

/// <summary>
/// Where content lies: the chunks that give it when put together. Long lists are chunks themselves: at depth 0 the identities are
/// those of the content, at depth 1 those of lists of such identities, and so on.
/// </summary>
public readonly record struct ContentRef(int Depth, ImmutableArray<ChunkId> Ids)
{
    public static ContentRef Empty { get; } = new(0, []);

    /// <summary>A reference to content with more identities than this is written as lists.</summary>
    public const int MostDirect = 64;

    /// <summary>Deeper than any content of this world needs.</summary>
    public const int MostDepth = 5;

    public bool Equals(ContentRef other) => Depth == other.Depth && Ids.AsSpan().SequenceEqual(other.Ids.AsSpan());

    public override int GetHashCode() => Ids.Length == 0 ? Depth : HashCode.Combine(Depth, Ids.Length, Ids[0]);
}
