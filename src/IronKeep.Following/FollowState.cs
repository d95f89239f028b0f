using System.Collections.Immutable;

namespace IronKeep.Following;

/// <summary>
/// A file as it was read last: which one it is, by what its content is known (hashes of its first bytes, and of the last before the place),
/// and from where it is read again: the begin of what is not over, in bytes and in lines. Its serial is given when it is first seen, and
/// anew when it was cut short: inodes are used again, serials are not.
/// </summary>
public sealed record FollowedFile(
    long Serial,
    ulong Device,
    ulong Inode,
    string Name,
    long Offset,
    long Lines,
    string Head,
    int HeadLength,
    string Tail
)
{
    /// <summary>What tells it from every other.</summary>
    public string Mark => Serial.ToString(System.Globalization.CultureInfo.InvariantCulture);
}

/// <summary>
/// What is remembered of the lines under one name: the files that are not over, those that have been read before, and the next serial.
/// </summary>
public sealed record StreamState(ImmutableArray<FollowedFile> Open, ImmutableArray<FollowedFile> Seen, long Next)
{
    public static StreamState Empty { get; } = new([], [], 1);

    public bool Equals(StreamState? other) =>
        other is not null && Next == other.Next && Open.SequenceEqual(other.Open) && Seen.SequenceEqual(other.Seen);

    public override int GetHashCode() => Next.GetHashCode();
}

/// <summary>
/// What is remembered of a log between two starts, by the name under which each stream is written. It may be older than what was told:
/// whatever is told again has the same id.
/// </summary>
public sealed record FollowState(ImmutableDictionary<string, StreamState> Streams)
{
    public static FollowState Empty { get; } = new(ImmutableDictionary<string, StreamState>.Empty);
}
