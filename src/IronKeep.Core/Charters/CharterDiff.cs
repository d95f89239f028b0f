using System.Collections.Immutable;

namespace IronKeep.Core.Charters;

/// <summary>What happens to one declared object between two charters.</summary>
public enum ChangeKind
{
    Added,
    Removed,
    Changed,
}

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
        if (Differing(CharterFields.Of(before), CharterFields.Of(after)) is { Length: > 0 } top)
            changes.Add(new CharterChange(ChangeKind.Changed, "charter", CharterFields.Settings, top));
        var was = CharterFields.Objects(before).ToDictionary(o => (o.Kind, o.Name), o => o.Fields);
        var becomes = CharterFields.Objects(after).ToDictionary(o => (o.Kind, o.Name), o => o.Fields);
        foreach (var (kind, _) in CharterFields.Sections)
        {
            foreach (var key in was.Keys.Union(becomes.Keys).Where(k => k.Kind == kind).OrderBy(k => k.Name, StringComparer.Ordinal))
            {
                if (!was.TryGetValue(key, out var old))
                    changes.Add(new CharterChange(ChangeKind.Added, kind, key.Name, []));
                else if (!becomes.TryGetValue(key, out var now))
                    changes.Add(new CharterChange(ChangeKind.Removed, kind, key.Name, []));
                else if (Differing(old, now) is { Length: > 0 } fields)
                    changes.Add(new CharterChange(ChangeKind.Changed, kind, key.Name, fields));
            }
        }
        return changes.ToImmutable();
    }

    /// <summary>What a run of a job goes by; the rest says when it runs, what is kept and who is told.</summary>
    private static readonly ImmutableArray<string> Runs =
    [
        "takes",
        "leaves-out",
        "leaves-out-caches",
        "other-file-systems",
        "compression",
        .. PlainReader.OfPartials,
        "into",
        "locks",
    ];

    /// <summary>What differs for a run between two definitions of a job.</summary>
    public static ImmutableArray<FieldChange> OfRuns(JobDefinition before, JobDefinition after) =>
        Differing(CharterFields.Of(before), CharterFields.Of(after)).RemoveAll(c => !Runs.Contains(c.Field));

    internal static ImmutableArray<FieldChange> Differing(ImmutableArray<CharterField> before, ImmutableArray<CharterField> after)
    {
        var was = before.ToDictionary(f => f.Key);
        var becomes = after.ToDictionary(f => f.Key);
        return
        [
            .. before
                .Concat(after)
                .Select(f => f.Key)
                .Distinct()
                .Where(k => !Equals(was.GetValueOrDefault(k), becomes.GetValueOrDefault(k)))
                .Select(k => new FieldChange(k, was.GetValueOrDefault(k)?.Text, becomes.GetValueOrDefault(k)?.Text)),
        ];
    }
}
