using System.Collections.Immutable;
using IronKeep.Core.Machines;

namespace IronKeep.Core.Charters;

/// <summary>Values that jobs have in common: those that are <c>like</c> it, or all where the charter says <c>jobs-like</c>.</summary>
public sealed record JobGroupDefinition(string Name, ImmutableArray<CharterField> Fields)
{
    internal MapNode? Node { get; init; }

    public bool Equals(JobGroupDefinition? other) => other is not null && Name == other.Name && Fields.SequenceEqual(other.Fields);

    public override int GetHashCode() => Name.GetHashCode(StringComparison.Ordinal);
}

/// <summary>Other values of a job on some of its machines.</summary>
public sealed record VariantDefinition(string Name, string Job, MachineSelection Selection, ImmutableArray<CharterField> Fields)
{
    internal MapNode? Node { get; init; }

    public bool Takes(MachineDefinition machine) =>
        Selection.Kind == SelectionKind.Expressed ? Selection.Takes(machine) : Selection.Names.Contains(machine.Name);

    public bool Equals(VariantDefinition? other) => other is not null && Name == other.Name && Fields.SequenceEqual(other.Fields);

    public override int GetHashCode() => Name.GetHashCode(StringComparison.Ordinal);
}

/// <summary>
/// The layers that a job's values come from, the upper one first: a variant on its machine, the job itself, the group that it is like,
/// the group that all jobs are like. What is said in a layer stands in place of what those below say; <c>none</c> takes it away. Source:
/// docs/charter.md, "Many machines".
/// </summary>
internal static class JobLayers
{
    public const string None = "none";

    // One of a pair displaces the other.
    private static readonly (string, string)[] Instead = [("when", "after"), ("takes", "streams")];

    public static JobGroupDefinition? Group(string name, CharterNode node, ValueReader read)
    {
        var known = read.Map(node, CharterLanguage.Names("job-group"));
        LookUp("job-group", known, read);
        return node is MapNode map ? new JobGroupDefinition(name, Fields(map, read)) { Node = map } : null;
    }

    public static VariantDefinition? Variant(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("variant"));
        var job = read.Uses(map.Required("job", "name the job that it is a variant of: 'job: JOB'"), "job");
        if (map.Any("on") is null)
            map.Missing("on", "say on which machines it holds: 'on: [tern-5, tern-6]', or 'on: tag slow-line'");
        LookUp("variant", map, read);
        var selection = SelectionReader.Read(map, read);
        if (selection.Kind == SelectionKind.Rest)
            read.Wrong(map.Any("on")!, "a variant holds on machines that are named or described, not on the rest");
        if (node is not MapNode all || job is null || selection.Kind is SelectionKind.Own or SelectionKind.Rest)
            return null;
        return new VariantDefinition(name, job, selection, Fields(all, read))
        {
            Node = all with { Entries = [.. all.Entries.Where(e => e.Key.Value is not ("job" or "on"))] },
        };
    }

    /// <summary>What the values name is looked up even where no job has them.</summary>
    private static void LookUp(string kind, MapReader map, ValueReader read)
    {
        foreach (var key in CharterLanguage.Of(kind).Where(k => k is { Of: not null, Key: not ("on" or "job" or "leaves-copy-in") }))
            if (map.Any(key.Key) is ScalarNode { Value: not None } or ListNode)
                read.Uses(map.Strings(key.Key), key.Of!);
    }

    /// <summary>A job over its groups.</summary>
    public static JobDefinition? Job(string name, CharterNode node, ValueReader read, JobGroupDefinition? like, JobGroupDefinition? all)
    {
        if (node is not MapNode own || (like?.Node ?? all?.Node) is null)
        {
            var alone = JobReader.Read(name, node, read);
            NoteCopies(alone, node as MapNode, [], read);
            return alone;
        }
        var below = Groups(like, all);
        if (Read(name, own, below, read) is not { } job)
            return null;
        NoteCopies(job, own, below, read);
        return job with { Said = SaidBy(job, own, below) };
    }

    /// <summary>
    /// Says which values would be the same without being said: such a copy does not follow when what it was copied from changes.
    /// </summary>
    private static void NoteCopies(JobDefinition? job, MapNode? own, List<Layer> below, ValueReader read)
    {
        if (job is null || own is null)
            return;
        var full = CharterFields.Of(job).Select(f => f.Key).ToHashSet();
        foreach (var entry in own.Entries.Where(e => !IsNone(e)))
        {
            var (from, under) = below
                .Select(l => (l.Origin, Entry: l.Node.Entries.FirstOrDefault(e => e.Key.Value == entry.Key.Value)))
                .FirstOrDefault(l => l.Entry.Key is not null);
            if (under.Key is not null ? Equals(Field(under), Field(entry)) : !full.Contains(entry.Key.Value))
                read.Note(
                    entry.Key,
                    $"'{entry.Key.Value}' says what "
                        + (
                            under.Key is null
                                ? "holds anyway; "
                                : $"the {(from == EffectiveValues.OfCharter ? "group that all jobs are like" : from)} says already; "
                        )
                        + $"take the line out, so that it follows when that changes"
                );
        }
    }

    /// <summary>A job on a machine, with what its variants say there.</summary>
    public static JobDefinition? Varied(
        JobDefinition job,
        CharterNode node,
        IReadOnlyList<VariantDefinition> variants,
        ValueReader read,
        JobGroupDefinition? like,
        JobGroupDefinition? all
    )
    {
        var top = new MapNode([.. variants.SelectMany(v => v.Node!.Entries)], node.Line, node.Column);
        List<Layer> below = [new(EffectiveValues.OfJob, (MapNode)node), .. Groups(like, all)];
        if (Read(job.Name, top, below, read) is not { } varied)
            return null;
        NoteCopies(varied, top, below, read);
        var from = varied.From;
        foreach (var key in from.Where(f => f.Value == EffectiveValues.OfJob).Select(f => f.Key))
            from = from.Remove(key);
        foreach (var variant in variants)
        foreach (var (key, _) in variant.Node!.Entries)
            from = from.SetItem(key.Value, $"variant {variant.Name}");
        return varied with { From = from, Said = job.Said };
    }

    private readonly record struct Layer(string Origin, MapNode Node);

    private static List<Layer> Groups(JobGroupDefinition? like, JobGroupDefinition? all)
    {
        var below = new List<Layer>();
        if (like?.Node is { } group)
            below.Add(new Layer($"group {like.Name}", group));
        if (all?.Node is { } usual && all != like)
            below.Add(new Layer(EffectiveValues.OfCharter, usual));
        return below;
    }

    private static JobDefinition? Read(string name, MapNode own, List<Layer> below, ValueReader read)
    {
        var entries = own.Entries.ToBuilder();
        var said = own.Entries.Select(e => e.Key.Value).ToHashSet();
        var from = ImmutableDictionary.CreateBuilder<string, string>();
        foreach (var (one, other) in Instead)
        {
            if (said.Contains(one))
                said.Add(other);
            else if (said.Contains(other))
                said.Add(one);
        }
        var watched = IsSaid(own, "watched", "yes") || below.Exists(l => IsSaid(l.Node, "watched", "yes"));
        var leaves = Says(own, "leaves-copy-in") || below.Exists(l => Says(l.Node, "leaves-copy-in"));
        foreach (var (origin, layer) in below)
        foreach (var (key, value) in layer.Entries)
            if (
                said.Add(key.Value)
                && (origin == EffectiveValues.OfJob || JobReader.GoesWith(key.Value, watched, leaves))
                && !IsNone((key, value))
            )
            {
                entries.Add((key, value));
                from[key.Value] = origin;
            }
        foreach (var entry in own.Entries.Where(IsNone))
        {
            if (!below.Exists(l => Says(l.Node, entry.Key.Value)))
                read.Wrong(entry.Value, $"nothing below says '{entry.Key.Value}', so there is nothing to take away; remove the line");
            entries.Remove(entry);
        }
        return JobReader.Read(name, own with { Entries = entries.ToImmutable() }, read) is { } job
            ? job with
            {
                From = from.ToImmutable(),
            }
            : null;
    }

    private static bool Says(MapNode node, string key) => node.Entries.Any(e => e.Key.Value == key);

    private static bool IsSaid(MapNode node, string key, string value) =>
        node.Entries.Any(e => e.Key.Value == key && e.Value is ScalarNode scalar && scalar.Value == value);

    // Of catching up, none is a value of its own.
    private static bool IsNone((ScalarNode Key, CharterNode Value) entry) =>
        entry.Value is ScalarNode { Value: None } && entry.Key.Value != "catch-up";

    /// <summary>
    /// What the job's own text says, in the words that every charter is written in where there are any: one that says what it would be
    /// anyway still says so where a layer below says otherwise.
    /// </summary>
    private static ImmutableArray<CharterField> SaidBy(JobDefinition job, MapNode own, List<Layer> below)
    {
        var full = CharterFields.Of(job).ToDictionary(f => f.Key);
        return
        [
            .. CharterLanguage
                .Of("job")
                .Select(k => own.Entries.FirstOrDefault(e => e.Key.Value == k.Key))
                .Where(e => e.Key is not null)
                .Select(e =>
                    IsNone(e) ? Field(e)
                    : full.TryGetValue(e.Key.Value, out var field) ? field
                    : below.Exists(l => Says(l.Node, e.Key.Value)) ? Field(e)
                    : null
                )
                .OfType<CharterField>(),
        ];
    }

    private static ImmutableArray<CharterField> Fields(MapNode map, ValueReader read)
    {
        var fields = ImmutableArray.CreateBuilder<CharterField>();
        foreach (var entry in map.Entries)
            if (Field(entry) is { } field)
                fields.Add(field);
            else
                read.Wrong(entry.Value, $"'{entry.Key.Value}' takes a text or a list of texts, and not none at all");
        return fields.ToImmutable();
    }

    private static CharterField? Field((ScalarNode Key, CharterNode Value) entry) =>
        entry.Value switch
        {
            ScalarNode { Value.Length: > 0 } scalar => new CharterField(
                entry.Key.Value,
                [scalar.Value],
                CharterLanguage.Of("variant").Any(k => k.Key == entry.Key.Value && k.IsList)
            ),
            ListNode { Items.Length: > 0 } list when list.Items.All(i => i is ScalarNode { Value.Length: > 0 }) => new CharterField(
                entry.Key.Value,
                [.. list.Items.Cast<ScalarNode>().Select(s => s.Value)],
                true
            ),
            _ => null,
        };
}
