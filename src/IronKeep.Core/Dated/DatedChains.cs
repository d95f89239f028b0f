using System.Collections.Immutable;

namespace IronKeep.Core.Dated;

/// <summary>
/// What a dated copy needs below it: an incremental one the copy before it, back to the nearest full one; a differential one the nearest
/// full one before it. Copies are those of one job on one machine in one store. Source: docs/semantics.md, section 10 (Dated files).
/// </summary>
public static class DatedChains
{
    /// <summary>
    /// The index of the copy that each of the copies needs directly (null: none, -1: one that is not there). They are given oldest first.
    /// </summary>
    public static int?[] Bases(IReadOnlyList<CopyKind?> kinds)
    {
        var bases = new int?[kinds.Count];
        var full = -1;
        for (var i = 0; i < kinds.Count; i++)
        {
            if (kinds[i] is null or CopyKind.Full)
                full = i;
            else
                bases[i] =
                    full < 0 ? -1
                    : kinds[i] == CopyKind.Differential ? full
                    : i - 1;
        }
        return bases;
    }

    /// <summary>A copy and all that it needs, the copy itself first.</summary>
    public static ImmutableArray<T> Needed<T>(T copy, IReadOnlyList<T> all, Func<T, DateTimeOffset> taken, Func<T, CopyKind?> kind)
        where T : class
    {
        var sorted = all.OrderBy(taken).ToList();
        var bases = Bases([.. sorted.Select(kind)]);
        var found = ImmutableArray.CreateBuilder<T>();
        for (var at = sorted.IndexOf(copy); at >= 0; at = bases[at] ?? -1)
            found.Add(sorted[at]);
        return found.ToImmutable();
    }

    /// <summary>Whether what is needed does not reach down to a full copy.</summary>
    public static bool Lacks<T>(ImmutableArray<T> chain, Func<T, CopyKind?> kind) =>
        chain.Length > 0 && kind(chain[^1]) is not (null or CopyKind.Full);
}
