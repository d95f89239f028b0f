namespace IronKeep.Cli.Rescuing;

/// <summary>What 'rescue' says as JSON of a copy, of an entry in it, and of a path found in several. Times are UTC, sizes bytes.</summary>
internal sealed record ListedCopy(
    string Id,
    string Job,
    string Machine,
    DateTimeOffset Taken,
    long Items,
    long Bytes,
    DateTimeOffset? Binned
);

internal sealed record ListedEntry(string Name, string Kind, long Size, DateTimeOffset Modified, string Mode, string Owner);

internal sealed record ListedPath(string Path, IReadOnlyList<string> Copies);
