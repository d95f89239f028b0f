using System.Collections.Immutable;

namespace IronKeep.Core.Charters;

/// <summary>
/// What happens to a job on machines between two charters, those together to which the same happens; for a changed one the values that
/// differ there, whatever layer they come from.
/// </summary>
public sealed record PlacedChange(ChangeKind Kind, string Job, ImmutableArray<string> Machines, ImmutableArray<FieldChange> Fields);

/// <summary>Compares two charters by what holds on machines, where <see cref="CharterDiff"/> compares what is written.</summary>
public static class PlacedDiff
{
    // They say where a job is, and that is compared itself.
    private static readonly string[] Placing = ["on", "except", "like"];

    /// <summary>In order of job, then of what happens.</summary>
    public static ImmutableArray<PlacedChange> Compare(Charter before, Charter after)
    {
        var found = new List<(ChangeKind Kind, string Job, string Machine, ImmutableArray<FieldChange> Fields)>();
        foreach (var job in before.Placed.All)
        {
            if (after.Placed.Find(job.Name, job.Machine) is not { } later)
                found.Add((ChangeKind.Removed, job.Name, job.Machine, []));
            else if (Differing(job, later) is { Length: > 0 } fields)
                found.Add((ChangeKind.Changed, job.Name, job.Machine, fields));
        }
        foreach (var job in after.Placed.All)
            if (before.Placed.Find(job.Name, job.Machine) is null)
                found.Add((ChangeKind.Added, job.Name, job.Machine, []));
        return
        [
            .. found
                .GroupBy(c => (c.Job, c.Kind, What: string.Join('\n', c.Fields.Select(f => $"{f.Field}\t{f.Before}\t{f.After}"))))
                .OrderBy(g => g.Key.Job, StringComparer.Ordinal)
                .ThenBy(g => g.Key.Kind)
                .Select(g => new PlacedChange(
                    g.Key.Kind,
                    g.Key.Job,
                    [.. g.Select(c => c.Machine).Order(StringComparer.Ordinal)],
                    g.First().Fields
                )),
        ];
    }

    private static ImmutableArray<FieldChange> Differing(PlacedJob before, PlacedJob after) =>
        before.Equals(after)
            ? []
            : CharterDiff.Differing(CharterFields.Of(before), CharterFields.Of(after)).RemoveAll(c => Placing.Contains(c.Field));
}
