using System.Collections.Immutable;

namespace IronKeep.Core.Charters;

/// <summary>What happens to one declared object between two charters.</summary>
public enum ChangeKind { Added, Removed, Changed }

/// <summary>One field of a changed object; null where the field is absent.</summary>
public sealed record FieldChange(string Field, string? Before, string? After);

/// <summary>One object that differs: its kind ("job"), its name, and for a changed one the fields that differ.</summary>
public sealed record CharterChange(ChangeKind Kind, string Object, string Name, ImmutableArray<FieldChange> Fields);

/// <summary>Compares two charters object by object.</summary>
public static class CharterDiff
{
    public static ImmutableArray<CharterChange> Compare(Charter before, Charter after)
    {
        var changes = ImmutableArray.CreateBuilder<CharterChange>();
        if (!before.Zone.Equals(after.Zone))
            changes.Add(new CharterChange(ChangeKind.Changed, "charter", "zone", [new FieldChange("zone", before.Zone.Id, after.Zone.Id)]));
        Compare(changes, "store", before.Stores, after.Stores, s =>
            [("folder", s.Folder), ("capacity", s.Capacity?.ToExactText()), ("reserve", s.Reserve?.ToExactText()), ("bin", s.Bin.ToString())]);
        Compare(changes, "policy", before.Policies, after.Policies, p =>
            [("keep", p.Keep.ToString()), ("at-least", p.AtLeast.ToString()), ("zone", p.Zone?.Id)]);
        Compare(changes, "job", before.Jobs, after.Jobs, j =>
        [
            ("takes", string.Join(", ", j.Takes)), ("leaves-out", j.LeavesOut.Length == 0 ? null : string.Join(", ", j.LeavesOut)), ("into", j.Into),
            ("when", j.When?.ToSentence()), ("zone", j.Zone?.Id), ("policy", j.Policy), ("fresh-within", j.FreshWithin?.ToString()),
        ]);
        return changes.ToImmutable();
    }

    private static void Compare<T>(
        ImmutableArray<CharterChange>.Builder changes, string kind,
        ImmutableSortedDictionary<string, T> before, ImmutableSortedDictionary<string, T> after, Func<T, (string Field, string? Value)[]> fields)
        where T : class
    {
        foreach (var name in before.Keys.Union(after.Keys).Order(StringComparer.Ordinal))
        {
            var was = before.GetValueOrDefault(name);
            var becomes = after.GetValueOrDefault(name);
            if (was is null || becomes is null)
            {
                changes.Add(new CharterChange(was is null ? ChangeKind.Added : ChangeKind.Removed, kind, name, []));
                continue;
            }
            var differing = fields(was).Zip(fields(becomes))
                .Where(p => p.First.Value != p.Second.Value)
                .Select(p => new FieldChange(p.First.Field, p.First.Value, p.Second.Value))
                .ToImmutableArray();
            if (differing.Length > 0) changes.Add(new CharterChange(ChangeKind.Changed, kind, name, differing));
        }
    }
}
