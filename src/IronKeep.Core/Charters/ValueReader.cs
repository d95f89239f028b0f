using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>A name of another object, to be looked up when all are read.</summary>
internal readonly record struct Use(string About, string Kind, ScalarNode Name);

/// <summary>Reads the values of one object's fields and reports what is wrong with them, about that object.</summary>
internal sealed class ValueReader(string about, List<Mistake> mistakes, List<Use> uses, List<Mistake>? notes = null)
{
    public string About => about;

    public MapReader Map(CharterNode node, string[] keys) => new(node, about, mistakes, keys);

    public DateTimeZone? Zone(ScalarNode? node)
    {
        if (node is null)
            return null;
        var zone = DateTimeZoneProviders.Tzdb.GetZoneOrNull(node.Value);
        if (zone is null)
        {
            var near = Nearest.To(node.Value, DateTimeZoneProviders.Tzdb.Ids);
            Wrong(
                node,
                $"there is no time zone '{node.Value}'; "
                    + $"{(near is null ? "use an IANA name such as Europe/London" : $"did you mean '{near}'?")}"
            );
        }
        return zone;
    }

    public Schedule? When(ScalarNode? node) => node is null ? null : Sentence(node, ScheduleText.Read(node.Value));

    /// <summary>What a sentence reader gave; its problem is reported at its place.</summary>
    public T? Sentence<T>(ScalarNode node, (T? Value, SentenceProblem? Problem) read)
        where T : class
    {
        if (read.Problem is { } problem)
            mistakes.Add(new Mistake(node.Line, node.Column + problem.Position, about, problem.Message));
        return read.Value;
    }

    /// <summary>Names of other objects; one named twice counts once and is a mistake.</summary>
    public ImmutableArray<string> Uses(List<ScalarNode>? names, string kind)
    {
        var seen = new HashSet<string>();
        foreach (var name in names ?? [])
        {
            if (!seen.Add(name.Value))
                Wrong(name, $"{kind} '{name.Value}' is named twice; once is enough");
            else
                uses.Add(new Use(about, kind, name));
        }
        return [.. (names ?? []).Select(n => n.Value).Distinct()];
    }

    public string? Uses(ScalarNode? name, string kind)
    {
        if (name is not null)
            uses.Add(new Use(about, kind, name));
        return name?.Value;
    }

    public T? Word<T>(ScalarNode? node)
        where T : struct, Enum
    {
        if (node is null)
            return null;
        if (Kebab.Read<T>(node.Value) is { } value)
            return value;
        var known = Enum.GetValues<T>().Select(v => Kebab.Of(v)).ToList();
        var near = Nearest.To(node.Value, known);
        Wrong(
            node,
            $"'{node.Value}' is not known here; {(near is null ? $"use {string.Join(" or ", known)}" : $"did you mean '{near}'?")}"
        );
        return null;
    }

    public int? Number(ScalarNode? node, string what, int least, int most)
    {
        if (node is null)
            return null;
        if (int.TryParse(node.Value, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number >= least && number <= most)
            return number;
        Wrong(node, $"'{node.Value}' is not {what}; write one from {least} to {most}");
        return null;
    }

    public bool Yes(ScalarNode? node)
    {
        if (node is null || node.Value == "no")
            return false;
        if (node.Value != "yes")
            Wrong(node, $"'{node.Value}' is not known here; use yes or no");
        return true;
    }

    public ByteSize? Size(ScalarNode? node)
    {
        if (node is null)
            return null;
        if (ByteSize.TryParse(node.Value, out var size, out var problem))
            return size;
        Wrong(node, problem);
        return null;
    }

    public Span? Span(ScalarNode? node, bool atLeastOne = false)
    {
        if (node is null)
            return null;
        if (Quantities.Span.TryParse(node.Value, out var span, out var problem))
        {
            if (span.Count > 0 || !atLeastOne)
                return span;
            problem = $"'{node.Value}' leaves no time at all; write at least 1 minute";
        }
        Wrong(node, problem);
        return null;
    }

    public void Path(ScalarNode path)
    {
        if (CharterReader.PathProblem(path.Value) is { } problem)
            Wrong(path, problem);
    }

    /// <summary>Says what is no mistake, and should be looked at.</summary>
    public void Note(CharterNode node, string message) => notes?.Add(new Mistake(node.Line, node.Column, about, message));

    public void Wrong(CharterNode node, string message) => mistakes.Add(new Mistake(node.Line, node.Column, about, message));
}
