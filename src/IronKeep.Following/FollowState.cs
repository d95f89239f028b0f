using System.Collections.Immutable;

namespace IronKeep.Following;

/// <summary>
/// A file as it was read last: which one it is (device, inode, and how often it was cut short in place), by what its content is known (a hash of its first
/// bytes), and from where it is read again: the begin of what is not over, in bytes and in lines.
/// </summary>
public sealed record FollowedFile(ulong Device, ulong Inode, int Generation, string Name, long Offset, long Lines, string Head, int HeadLength)
{
    /// <summary>What tells it from every other, also from itself before it was cut short.</summary>
    public string Mark => $"{Device}:{Inode}:{Generation}";
}

/// <summary>
/// What is remembered of a log between two starts: its files that are not over, the oldest first, by the name under which each stream is written; and
/// until when they were looked at (seconds since 1970). It may be older than what was told: whatever is told again has the same id.
/// </summary>
public sealed record FollowState(ImmutableDictionary<string, ImmutableArray<FollowedFile>> Streams, long LookedAt)
{
    public static FollowState Empty { get; } = new(ImmutableDictionary<string, ImmutableArray<FollowedFile>>.Empty, 0);
}
