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
        var map = new MapReader(root, "the charter", mistakes, ["charter", "zone", "tells", "duty-mail", "stores", "policies", "channels", "jobs"]);
        if (map.Required("charter", $"begin the file with 'charter: {Charter.Version}'") is { } version && version.Value != Charter.Version.ToString(CultureInfo.InvariantCulture))
            Wrong(version, "charter", $"version '{version.Value}' is not known; this service reads version {Charter.Version}");
        var zone = Zone(map.Scalar("zone"), "charter") ?? DateTimeZone.Utc;
        var dutyMail = When(map.Scalar("duty-mail"), "the charter");
        var tells = Uses(map.Strings("tells"), "the charter", "channel");
        if (dutyMail is not null && tells.Length == 0) Wrong(map.Scalar("duty-mail")!, "the charter", "'duty-mail' needs somebody to go to: name channels with 'tells: CHANNEL' beside it");
        var stores = Named(map.Map("stores"), "store", ReadStore);
        var policies = Named(map.Map("policies"), "policy", ReadPolicy);
        var channels = Named(map.Map("channels"), "channel", (name, node) => new ChannelReader(name, mistakes).Read(node));
        var jobs = Named(map.Map("jobs"), "job", ReadJob);
        foreach (var (job, kind, name) in uses)
        {
            // One that is declared with mistakes of its own is declared all the same.
            if (places.ContainsKey($"{kind} {name.Value}")) continue;
            var known = places.Keys.Where(p => p.StartsWith(kind + " ", StringComparison.Ordinal)).Select(p => p[(kind.Length + 1)..]);
            var near = Nearest.To(name.Value, known);
            Wrong(name, job, $"there is no {kind} '{name.Value}'; {(near is null ? $"declare it under '{CharterFields.Sections.First(s => s.Kind == kind).Section}'" : $"did you mean '{near}'?")}");
        }
        CheckFollowers(jobs);
        return new Charter(zone, dutyMail, tells, stores, policies, channels, jobs);
    }

    /// <summary>A job that follows others must in the end follow one that is due by itself.</summary>
    private void CheckFollowers(ImmutableSortedDictionary<string, JobDeclaration> jobs)
    {
        foreach (var job in jobs.Values.Where(j => j.After is not null))
        {
            var way = new List<string> { job.Name };
            var at = job;
            while (at.After is { } before && jobs.TryGetValue(before, out var next) && !way.Contains(before))
            {
                way.Add(before);
                at = next;
            }
            var (_, _, name) = uses.First(u => u.Kind == "job" && u.Job == $"job {job.Name}");
            if (at.After == job.Name) Wrong(name, $"job {job.Name}", $"runs in a circle: {string.Join(" after ", way.Append(job.Name))}; give one of them a 'when' in place of its 'after'");
            else if (at.After is null && at.When is null) Wrong(name, $"job {job.Name}", $"would never be due: {at.Name} runs by hand only; give {at.Name} a 'when'");
        }
    }

    private StoreDeclaration? ReadStore(string name, CharterNode node)
    {
        var about = $"store {name}";
        var map = new MapReader(node, about, mistakes, ["folder", "capacity", "reserve", "bin", "warn-below", "verify", "verify-budget", "reclaim"]);
        var folder = map.Required("folder", "say which folder holds the copies: 'folder: /srv/backup'");
        if (folder is not null) CheckPath(folder, about);
        var capacity = Size(map.Scalar("capacity"), about);
        var reserve = Size(map.Scalar("reserve"), about);
        if (capacity is { } c && reserve is { } r && r >= c)
            Wrong(map.Scalar("reserve")!, about, $"a reserve of {r.ToExactText()} leaves nothing of the capacity of {c.ToExactText()}; make it smaller");
        var warnBelow = Size(map.Scalar("warn-below"), about);
        if (capacity is { } all && warnBelow is { } warn && warn >= all)
            Wrong(map.Scalar("warn-below")!, about, $"there is never more than {all.ToExactText()} free, so {warn.ToExactText()} would warn for ever; make it smaller");
        var bin = ReadSpan(map.Scalar("bin"), about) ?? StoreDeclaration.UsualBin;
        var verify = When(map.Scalar("verify"), about);
        var budget = Size(map.Scalar("verify-budget"), about);
        if (budget is not null && verify is null && map.Scalar("verify") is null) Wrong(map.Scalar("verify-budget")!, about, "a budget needs a time: add 'verify: daily at 05:00'");
        if (budget is { Bytes: 0 }) Wrong(map.Scalar("verify-budget")!, about, "a budget of nothing verifies nothing; give it a size such as 10 GB");
        var reclaim = When(map.Scalar("reclaim"), about);
        return folder is null ? null : new StoreDeclaration(name, Normal(folder.Value), capacity, reserve, bin, warnBelow, verify, budget, reclaim);
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

    private static readonly string[] JobKeys =
    [
        "takes", "leaves-out", "into", "when", "after", "zone", "policy", "fresh-within", "start-limit", "run-limit", "catch-up", "wait-after-return", "catch-up-gap",
        "overlap", "retries", "band", "prune", "tells", "tell-when",
    ];

    private JobDeclaration? ReadJob(string name, CharterNode node)
    {
        var about = $"job {name}";
        var map = new MapReader(node, about, mistakes, JobKeys);
        var takes = map.Strings("takes");
        if (takes is null) map.Missing("takes", "say what to back up: 'takes: [/srv/data]'");
        else if (takes.Count == 0) Wrong(node, about, "the list under 'takes' is empty, so nothing would be backed up; name at least one folder");
        foreach (var path in takes ?? []) CheckPath(path, about);
        var leavesOut = map.Strings("leaves-out") ?? [];
        foreach (var pattern in leavesOut)
            if (LeaveOutSyntax.Problem(pattern.Value) is { } wrong) Wrong(pattern, about, wrong);
        var intoList = map.Strings("into");
        if (intoList is null or { Count: 0 }) map.Missing("into", "say which store holds the copies: 'into: STORE'");
        var into = Uses(intoList, about, "store");
        var policy = map.Required("policy", "say how long copies stay: 'policy: POLICY'");
        if (policy is not null) uses.Add((about, "policy", policy));
        var when = When(map.Scalar("when"), about);
        var after = map.Scalar("after");
        if (after is not null) uses.Add((about, "job", after));
        if (after is not null && map.Scalar("when") is not null) Wrong(after, about, "has both 'when' and 'after'; a job is due by the clock or follows another, not both");
        var job = new JobDeclaration(name, [.. (takes ?? []).Select(t => Normal(t.Value)).Distinct()], into, policy?.Value ?? "")
        {
            LeavesOut = [.. leavesOut.Select(p => p.Value)],
            When = when,
            After = after?.Value,
            Zone = Zone(map.Scalar("zone"), about),
            FreshWithin = ReadSpan(map.Scalar("fresh-within"), about),
            StartLimit = ReadSpan(map.Scalar("start-limit"), about, atLeastOne: true) ?? JobDeclaration.UsualStartLimit,
            RunLimit = ReadSpan(map.Scalar("run-limit"), about, atLeastOne: true),
            CatchUp = Word<CatchUp>(map.Scalar("catch-up"), about) ?? default,
            WaitAfterReturn = ReadSpan(map.Scalar("wait-after-return"), about) ?? JobDeclaration.UsualWaitAfterReturn,
            CatchUpGap = ReadSpan(map.Scalar("catch-up-gap"), about) ?? JobDeclaration.UsualCatchUpGap,
            Overlap = Word<Overlap>(map.Scalar("overlap"), about) ?? default,
            Retries = Number(map.Scalar("retries"), about, "retries", JobDeclaration.MostRetries),
            Band = ReadBand(map.Scalar("band"), about),
            Prune = Word<PruneTime>(map.Scalar("prune"), about) ?? default,
            Tells = Uses(map.Strings("tells"), about, "channel"),
            TellWhen = Word<TellWhen>(map.Scalar("tell-when"), about) ?? default,
        };
        return takes is not { Count: > 0 } || into.Length == 0 || policy is null ? null : job;
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
        if (PathProblem(path.Value) is { } problem) Wrong(path, about, problem);
    }

    /// <summary>What is wrong with a path of a charter, or null. It must be absolute and plain.</summary>
    internal static string? PathProblem(string path) =>
        !path.StartsWith('/') ? $"'{path}' is not an absolute path; begin it with '/'"
        : path.Contains('\0') ? "a path cannot contain a null character"
        : path.Split('/').Contains("..") ? $"'{path}' contains '..'; write the path it stands for"
        : null;

    internal static string Normal(string path) => "/" + string.Join('/', path.Split('/', StringSplitOptions.RemoveEmptyEntries).Where(p => p != "."));

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

    private Schedule? When(ScalarNode? node, string about)
    {
        if (node is null) return null;
        var (schedule, problem) = ScheduleText.Read(node.Value);
        if (problem is not null) WrongInside(node, about, problem);
        return schedule;
    }

    /// <summary>Names of other objects, to be looked up when all are read; one named twice counts once and is a mistake.</summary>
    private ImmutableArray<string> Uses(List<ScalarNode>? names, string about, string kind)
    {
        var seen = new HashSet<string>();
        foreach (var name in names ?? [])
        {
            if (!seen.Add(name.Value)) Wrong(name, about, $"{kind} '{name.Value}' is named twice; once is enough");
            else uses.Add((about, kind, name));
        }
        return [.. (names ?? []).Select(n => n.Value).Distinct()];
    }

    private T? Word<T>(ScalarNode? node, string about) where T : struct, Enum
    {
        if (node is null) return null;
        if (Kebab.Read<T>(node.Value) is { } value) return value;
        var known = Enum.GetValues<T>().Select(v => Kebab.From(v.ToString())).ToList();
        var near = Nearest.To(node.Value, known);
        Wrong(node, about, $"'{node.Value}' is not known here; {(near is null ? $"use {string.Join(" or ", known)}" : $"did you mean '{near}'?")}");
        return null;
    }

    private int Number(ScalarNode? node, string about, string what, int most)
    {
        if (node is null) return 0;
        if (int.TryParse(node.Value, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number <= most) return number;
        Wrong(node, about, $"'{node.Value}' is not a number of {what}; write one from 0 to {most}");
        return 0;
    }

    private Watching.Band ReadBand(ScalarNode? node, string about)
    {
        if (node is null) return Watching.Band.Usual;
        if (!Watching.Band.TryParse(node.Value, out var band, out var problem)) Wrong(node, about, problem);
        return band;
    }

    private ByteSize? Size(ScalarNode? node, string about)
    {
        if (node is null) return null;
        if (ByteSize.TryParse(node.Value, out var size, out var problem)) return size;
        Wrong(node, about, problem);
        return null;
    }

    private Span? ReadSpan(ScalarNode? node, string about, bool atLeastOne = false)
    {
        if (node is null) return null;
        if (Span.TryParse(node.Value, out var span, out var problem))
        {
            if (span.Count > 0 || !atLeastOne) return span;
            problem = $"'{node.Value}' leaves no time at all; write at least 1 minute";
        }
        Wrong(node, about, problem);
        return null;
    }

    private void WrongInside(ScalarNode sentence, string about, SentenceProblem problem) =>
        mistakes.Add(new Mistake(sentence.Line, sentence.Column + problem.Position, about, problem.Message));

    private void Wrong(CharterNode node, string about, string message) => mistakes.Add(new Mistake(node.Line, node.Column, about, message));
}
