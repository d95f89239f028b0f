using IronKeep.Core.Dated;

namespace IronKeep.Stores.Dated;

/// <summary>
/// A file that is a copy. Its id is its path; of one in the bin whose path is in use again, the path and the time at which it went there.
/// Binned (UTC) is null while it is in force; steady says whether it is settled as it is now.
/// </summary>
public sealed record DatedCopy(string Id, FileMark Mark, DatedName Name, DateTimeOffset Taken, bool IsSteady)
{
    public DateTimeOffset? Binned => Mark.Binned;
    public bool IsInBin => Mark.Path.StartsWith(DatedStore.Bin, StringComparison.Ordinal);
}

/// <summary>
/// One look over a folder of dated files: the copies by their ids, the files that have still to settle, and how many entries are neither.
/// </summary>
public sealed record DatedLook(IReadOnlyDictionary<string, DatedCopy> Copies, IReadOnlyList<DatedCopy> Unsettled, long Others)
{
    /// <summary>Copies that changed since they were copies, of which nobody was told yet.</summary>
    public IEnumerable<DatedCopy> Changed => Copies.Values.Where(c => c.Mark.Changed);
}
