using System.Text.Json;
using IronKeep.Catalogue;

namespace IronKeep.Service.Runs;

/// <summary>
/// That a backup run works with the settings of an earlier revision of the charter, and the stores and locks that it holds so.
/// </summary>
public sealed record RerunOrder(long Revision, IReadOnlyList<string> Into, IReadOnlyList<string> Locks)
{
    /// <summary>Null where it works with the charter in force.</summary>
    public static RerunOrder? Of(Run run) => run.Order is { } order ? JsonSerializer.Deserialize<RerunOrder>(order) : null;
}
