using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>
/// Reads a charter from its nodes and finds every mistake at once. The shape is documented in docs/charter.md. Checks that
/// need a file system (links, rights) are the service's; what can be told from the text alone is told here.
/// </summary>
public sealed class CharterReader
{
    private readonly List<Mistake> mistakes = [];
    private readonly List<(string Job, string Kind, ScalarNode Name)> uses = [];
    private readonly Dictionary<string, (int Line, int Column)> places = [];

    private CharterReader() { }

    /// <summary>Reads all of it; mistakes are in the order of the text.</summary>
    public static CharterReading Read(CharterNode root)
    {
        var reader = new CharterReader();
        var charter = reader.ReadCharter(root);
        var found = reader.mistakes.OrderBy(m => m.Line).ThenBy(m => m.Column).ToImmutableArray();
        return new CharterReading(found.Length == 0 ? charter : null, found, reader.places);
    }

    private Charter ReadCharter(CharterNode root)
    {
        var map = new MapReader(root, "the charter", mistakes, ["charter", "zone", "stores", "policies", "jobs"]);
        if (map.Required("charter", $"begin the file with 'charter: {Charter.Version}'") is { } version && version.Value != Charter.Version.ToString(CultureInfo.InvariantCulture))
            Wrong(version, "charter", $"version '{version.Value}' is not known; this service reads version {Charter.Version}");
        var zone = Zone(map.Scalar("zone"), "charter") ?? DateTimeZone.Utc;
        var stores = Named(map.Map("stores"), "store", ReadStore);
        var policies = Named(map.Map("policies"), "policy", ReadPolicy);
        var jobs = Named(map.Map("jobs"), "job", ReadJob);
        foreach (var (job, kind, name) in uses)
        {
            // One that is declared with mistakes of its own is declared all the same.
            if (places.ContainsKey($"{kind} {name.Value}")) continue;
            var known = places.Keys.Where(p => p.StartsWith(kind + " ", StringComparison.Ordinal)).Select(p => p[(kind.Length + 1)..]);
            var near = Nearest.To(name.Value, known);
            Wrong(name, job, $"there is no {kind} '{name.Value}'; {(near is null ? $"declare it under '{(kind == "store" ? "stores" : "policies")}'" : $"did you mean '{near}'?")}");
        }
        return new Charter(zone, stores, policies, jobs);
    }

    private StoreDeclaration? ReadStore(string name, CharterNode node)
    {
        var about = $"store {name}";
        var map = new MapReader(node, about, mistakes, ["folder", "capacity", "reserve", "bin"]);
        var folder = map.Required("folder", "say which folder holds the copies: 'folder: /srv/backup'");
        if (folder is not null) CheckPath(folder, about);
        var capacity = Size(map.Scalar("capacity"), about);
        var reserve = Size(map.Scalar("reserve"), about);
        if (capacity is { } c && reserve is { } r && r >= c)
            Wrong(map.Scalar("reserve")!, about, $"a reserve of {r.ToExactText()} leaves nothing of the capacity of {c.ToExactText()}; make it smaller");
        var bin = ReadSpan(map.Scalar("bin"), about) ?? StoreDeclaration.UsualBin;
        return folder is null ? null : new StoreDeclaration(name, Normal(folder.Value), capacity, reserve, bin);
    }

    private PolicyDeclaration? ReadPolicy(string name, CharterNode node)
    {
        var about = $"policy {name}";
        var map = new MapReader(node, about, mistakes, ["keep", "at-least", "zone"]);
        var sentence = map.Required("keep", "say what to keep: 'keep: newest 3 then 7 daily then 4 weekly'");
        var atLeast = RetentionGuards.UsualFloor;
        if (map.Scalar("at-least") is { } floor && !(int.TryParse(floor.Value, NumberStyles.None, CultureInfo.InvariantCulture, out atLeast) && atLeast is >= 1 and <= 1000))
            Wrong(floor, about, $"'{floor.Value}' is not a floor; write the number of newest good copies that always stay, from 1 to 1000");
        var zone = Zone(map.Scalar("zone"), about);
        if (sentence is null) return null;
        var (policy, problem) = RetentionSentence.Read(sentence.Value);
        if (problem is not null) WrongInside(sentence, about, problem);
        return policy is null ? null : new PolicyDeclaration(name, policy, atLeast, zone);
    }

    private JobDeclaration? ReadJob(string name, CharterNode node)
    {
        var about = $"job {name}";
        var map = new MapReader(node, about, mistakes, ["takes", "leaves-out", "into", "when", "zone", "policy", "fresh-within"]);
        var takes = map.Strings("takes");
        if (takes is null) map.Missing("takes", "say what to back up: 'takes: [/srv/data]'");
        else if (takes.Count == 0) Wrong(node, about, "the list under 'takes' is empty, so nothing would be backed up; name at least one folder");
        foreach (var path in takes ?? []) CheckPath(path, about);
        var leavesOut = map.Strings("leaves-out") ?? [];
        foreach (var pattern in leavesOut)
            if (LeaveOutSyntax.Problem(pattern.Value) is { } wrong) Wrong(pattern, about, wrong);
        var into = map.Required("into", "say which store holds the copies: 'into: STORE'");
        if (into is not null) uses.Add((about, "store", into));
        var policy = map.Required("policy", "say how long copies stay: 'policy: POLICY'");
        if (policy is not null) uses.Add((about, "policy", policy));
        Schedule? when = null;
        if (map.Scalar("when") is { } sentence)
        {
            (when, var problem) = ScheduleSentence.Read(sentence.Value);
            if (problem is not null) WrongInside(sentence, about, problem);
        }
        var zone = Zone(map.Scalar("zone"), about);
        var fresh = ReadSpan(map.Scalar("fresh-within"), about);
        if (takes is not { Count: > 0 } || into is null || policy is null) return null;
        return new JobDeclaration(name, [.. takes.Select(t => Normal(t.Value)).Distinct()], [.. leavesOut.Select(p => p.Value)], into.Value, when, zone, policy.Value, fresh);
    }

    private ImmutableSortedDictionary<string, T> Named<T>(MapNode? map, string kind, Func<string, CharterNode, T?> read) where T : class
    {
        var found = ImmutableSortedDictionary.CreateBuilder<string, T>(StringComparer.Ordinal);
        var first = new Dictionary<string, ScalarNode>();
        foreach (var (key, value) in map?.Entries ?? [])
        {
            if (!first.TryAdd(key.Value, key))
            {
                Wrong(key, $"{kind} {key.Value}", $"the name '{key.Value}' is used twice, first in line {first[key.Value].Line}; give one of them another name");
                continue;
            }
            if (!IsName(key.Value))
                Wrong(key, $"{kind} {key.Value}", $"'{key.Value}' cannot be a name; use lower-case letters, digits and hyphens, at most 63, beginning with a letter or digit");
            places[$"{kind} {key.Value}"] = (key.Line, key.Column);
            if (read(key.Value, value) is { } declaration) found[key.Value] = declaration;
        }
        return found.ToImmutable();
    }

    /// <summary>Names become parts of paths and addresses, so they are lower-case letters, digits and inner hyphens, at most 63.</summary>
    public static bool IsName(string text) =>
        text.Length is >= 1 and <= 63 && text[0] != '-' && text[^1] != '-'
        && text.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c == '-');

    private void CheckPath(ScalarNode path, string about)
    {
        if (!path.Value.StartsWith('/')) Wrong(path, about, $"'{path.Value}' is not an absolute path; begin it with '/'");
        else if (path.Value.Contains('\0')) Wrong(path, about, "a path cannot contain a null character");
        else if (path.Value.Split('/').Contains("..")) Wrong(path, about, $"'{path.Value}' contains '..'; write the path it stands for");
    }

    private static string Normal(string path) => "/" + string.Join('/', path.Split('/', StringSplitOptions.RemoveEmptyEntries).Where(p => p != "."));

    private DateTimeZone? Zone(ScalarNode? node, string about)
    {
        if (node is null) return null;
        var zone = DateTimeZoneProviders.Tzdb.GetZoneOrNull(node.Value);
        if (zone is null)
        {
            var near = Nearest.To(node.Value, DateTimeZoneProviders.Tzdb.Ids);
            Wrong(node, about, $"there is no time zone '{node.Value}'; {(near is null ? "use an IANA name such as Europe/London" : $"did you mean '{near}'?")}");
        }
        return zone;
    }

    private ByteSize? Size(ScalarNode? node, string about)
    {
        if (node is null) return null;
        if (ByteSize.TryParse(node.Value, out var size, out var problem)) return size;
        Wrong(node, about, problem);
        return null;
    }

    private Span? ReadSpan(ScalarNode? node, string about)
    {
        if (node is null) return null;
        if (Span.TryParse(node.Value, out var span, out var problem)) return span;
        Wrong(node, about, problem);
        return null;
    }

    private void WrongInside(ScalarNode sentence, string about, SentenceProblem problem) =>
        mistakes.Add(new Mistake(sentence.Line, sentence.Column + problem.Position, about, problem.Message));

    private void Wrong(CharterNode node, string about, string message) => mistakes.Add(new Mistake(node.Line, node.Column, about, message));
}
