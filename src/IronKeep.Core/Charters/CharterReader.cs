using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Core.Rotation;
using IronKeep.Core.Schedules;
using IronKeep.Core.Telling;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>
/// Reads a charter from its nodes and finds every mistake at once. The shape is documented in docs/charter.md. Checks that
/// need a file system (links, rights) are the service's; what can be told from the text alone is told here.
/// </summary>
public sealed partial class CharterReader
{
    private readonly List<Mistake> mistakes = [],
        notes = [];
    private readonly List<Use> uses = [];
    private readonly Dictionary<string, (int Line, int Column)> places = [];

    private CharterReader() { }

    /// <summary>
    /// Reads all of it; mistakes are in the order of the text. <paramref name="own"/> is the machine of whoever goes by it.
    /// </summary>
    public static CharterReading Read(CharterNode root, string own = "")
    {
        var reader = new CharterReader();
        var charter = reader.ReadCharter(root, own);
        // A value that several jobs have from a group is wrong once.
        var found = reader
            .mistakes.DistinctBy(m => (m.Line, m.Column, m.Message))
            .OrderBy(m => m.Line)
            .ThenBy(m => m.Column)
            .ToImmutableArray();
        return new CharterReading(found.Length == 0 ? charter : null, found, reader.places)
        {
            Notes = [.. reader.notes.Distinct().OrderBy(n => n.Line).ThenBy(n => n.Column)],
        };
    }

    private Charter ReadCharter(CharterNode root, string own)
    {
        var read = new ValueReader("the charter", mistakes, uses, notes);
        var map = read.Map(
            root,
            ["charter", .. CharterLanguage.Names(CharterFields.Settings), .. CharterFields.Sections.Select(s => s.Section)]
        );
        if (
            map.Required("charter", $"begin the file with 'charter: {Charter.Version}'") is { } version
            && version.Value != Charter.Version.ToString(CultureInfo.InvariantCulture)
        )
            mistakes.Add(
                new Mistake(
                    version.Line,
                    version.Column,
                    "charter",
                    $"version '{version.Value}' is not known; this service reads version {Charter.Version}"
                )
            );
        var zone = read.Zone(map.Scalar("zone")) ?? DateTimeZone.Utc;
        var dutyMail = read.When(map.Scalar("duty-mail"));
        var tells = read.Uses(map.Strings("tells"), CharterLanguage.Tellable);
        if (dutyMail is not null && tells.Length == 0)
            read.Wrong(
                map.Scalar("duty-mail")!,
                "'duty-mail' needs somebody to go to: name channels, people or rotas with 'tells' beside it"
            );
        var signOfLife = read.When(map.Scalar("sign-of-life"));
        if (signOfLife is not null && tells.Length == 0 && map.Map("routes") is null)
            read.Wrong(map.Scalar("sign-of-life")!, "'sign-of-life' needs somebody to go to: name them with 'tells', or declare routes");
        var heartbeat = map.Scalar("heartbeat-file");
        if (heartbeat is not null)
            read.Path(heartbeat);
        else if (map.Scalar("heartbeat-every") is { } every)
            read.Wrong(every, "'heartbeat-every' goes with 'heartbeat-file', the file with the address to fetch");
        var groups = Named(map.Map("job-groups"), "job-group", JobLayers.Group);
        var jobsLike = read.Uses(map.Scalar("jobs-like"), "job-group");
        var all = groups.GetValueOrDefault(jobsLike ?? "");
        var charter = Charter.Empty with
        {
            Own = own,
            Zone = zone,
            DutyMail = dutyMail,
            SignOfLife = signOfLife,
            HeartbeatFile = heartbeat?.Value,
            HeartbeatEvery = read.Span(map.Scalar("heartbeat-every"), atLeastOne: true) ?? Charter.UsualHeartbeat,
            Tells = tells,
            RunsAtOnce = read.Number(map.Scalar("runs-at-once"), "a number of runs", 1, DefinitionReaders.MostAtOnce),
            AgentLapses = read.Span(map.Scalar("agent-lapses"), atLeastOne: true) ?? AgentRight.UsualLapse,
            Machines = Named(map.Map("machines"), "machine", DefinitionReaders.Machine),
            Lines = Named(map.Map("lines"), "line", LineDefinition.Read),
            Stores = Named(map.Map("stores"), "store", DefinitionReaders.Store),
            Calendars = Named(map.Map("calendars"), "calendar", DefinitionReaders.Calendar),
            Policies = Named(map.Map("policies"), "policy", DefinitionReaders.Policy),
            MediaGroups = Named(map.Map("media-groups"), "media-group", (name, node, _) =>
                RotationReader.ReadGroup(name, node, mistakes, named: false)
            ),
            RotationSets = Named(map.Map("rotation-sets"), "rotation-set", (name, node, of) =>
                DefinitionReaders.RotationSet(name, node, of, mistakes)
            ),
            Channels = Named(map.Map("channels"), "channel", (name, node, _) => new ChannelReader(name, mistakes).Read(node)),
            People = Named(map.Map("people"), "person", PeopleReaders.Person),
            Rotas = Named(map.Map("rotas"), "rota", PeopleReaders.Rota),
            Routes = Named(map.Map("routes"), "route", PeopleReaders.Route),
            MaintenanceWindows = Named(map.Map("maintenance-windows"), "maintenance-window", PeopleReaders.Maintenance),
            Causes = Named(map.Map("causes"), "cause", PeopleReaders.Cause),
            Reports = Named(map.Map("reports"), "report", ReportReader.Report),
            LogRules = Named(map.Map("log-rules"), "log-rules", LogRulesReader.Read),
            Steps = Named(map.Map("steps"), "step", StepReader.Step),
            JobsLike = jobsLike,
            JobGroups = groups,
            Jobs = Named(map.Map("jobs"), "job", (name, node, of) => JobLayers.Job(name, node, of, LikeOf(node), all)),
            Variants = Named(map.Map("variants"), "variant", JobLayers.Variant),
        };
        charter = charter with { Varied = Varied(charter, map.Map("jobs"), all) };
        foreach (var (about, kind, name) in uses)
        {
            // One that is declared with mistakes of its own is declared all the same.
            string[] kinds = kind == CharterLanguage.Tellable ? Tellable : [kind];
            if (kinds.Any(k => places.ContainsKey($"{k} {name.Value}")))
                continue;
            var known = kinds.SelectMany(k =>
                places.Keys.Where(p => p.StartsWith(k + " ", StringComparison.Ordinal)).Select(p => p[(k.Length + 1)..])
            );
            var near = Nearest.To(name.Value, known);
            mistakes.Add(
                new Mistake(
                    name.Line,
                    name.Column,
                    about,
                    $"there is no {kind} '{name.Value}'; "
                        + (
                            near is null
                                ? $"declare it under '{CharterFields.Sections.First(s => s.Kind == kinds[0]).Section}'"
                                : $"did you mean '{near}'?"
                        )
                )
            );
        }
        CheckNames(charter);
        CheckRetired(charter);
        CheckPaths(charter);
        CheckFollowers(charter);
        CheckTimes(charter);
        CheckLayouts(charter);
        CheckReadOver(charter);
        CheckStreams(charter);
        CheckReached(charter);
        CheckTold(charter);
        RotationReader.CheckLabels(charter.MediaGroups.Values, mistakes, map.Map("media-groups") ?? root);
        return charter;

        JobGroupDefinition? LikeOf(CharterNode node) =>
            (node as MapNode)?.Entries.FirstOrDefault(e => e.Key.Value == "like").Value is ScalarNode like
                ? groups.GetValueOrDefault(like.Value)
                : null;
    }

    /// <summary>The jobs with what their variants say, by machine.</summary>
    private ImmutableDictionary<(string, string), JobDefinition> Varied(Charter charter, MapNode? jobs, JobGroupDefinition? all)
    {
        var found = ImmutableDictionary.CreateBuilder<(string, string), JobDefinition>();
        foreach (var variants in charter.Variants.Values.GroupBy(v => v.Job))
        {
            if (jobs?.Entries.FirstOrDefault(e => e.Key.Value == variants.Key).Value is not { } node)
                continue;
            foreach (var job in charter.Placed.Named(variants.Key))
            {
                var machine = charter.Machines.GetValueOrDefault(job.Machine) ?? new MachineDefinition(job.Machine, null, null);
                var taken = variants.Where(v => v.Takes(machine)).ToList();
                var twice = taken
                    .SelectMany(v => v.Node!.Entries.Select(e => (e.Key, Variant: v.Name)))
                    .GroupBy(e => e.Key.Value)
                    .FirstOrDefault(g => g.Count() > 1)
                    ?.ToList();
                if (twice is not null)
                    Wrong(
                        twice[1].Key,
                        $"variant {twice[1].Variant}",
                        $"variant {twice[0].Variant} says '{twice[0].Key.Value}' of job {job.Name} on {job.Machine} as well; let one of "
                            + "them hold there"
                    );
                else if (
                    taken.Count > 0
                    && JobLayers.Varied(
                        charter.Jobs[job.Name],
                        node,
                        taken,
                        new ValueReader($"variant {taken[0].Name}", mistakes, uses, notes),
                        charter.JobGroups.GetValueOrDefault(job.Like ?? ""),
                        all
                    )
                        is { } varied
                )
                    found[(job.Name, job.Machine)] = varied;
            }
        }
        return found.ToImmutable();
    }

    private ImmutableSortedDictionary<string, T> Named<T>(MapNode? map, string kind, Func<string, CharterNode, ValueReader, T?> read)
        where T : class
    {
        var found = ImmutableSortedDictionary.CreateBuilder<string, T>(StringComparer.Ordinal);
        var first = new Dictionary<string, ScalarNode>();
        foreach (var (key, value) in map?.Entries ?? [])
        {
            if (!first.TryAdd(key.Value, key))
            {
                Wrong(
                    key,
                    $"{kind} {key.Value}",
                    $"the name '{key.Value}' is used twice, first in line {first[key.Value].Line}; give one of them another name"
                );
                continue;
            }
            if (!IsName(key.Value))
                Wrong(
                    key,
                    $"{kind} {key.Value}",
                    $"'{key.Value}' cannot be a name; use lower-case letters, digits and hyphens, at most 63, beginning with a letter or "
                        + $"digit"
                );
            places[$"{kind} {key.Value}"] = (key.Line, key.Column);
            if (read(key.Value, value, new ValueReader($"{kind} {key.Value}", mistakes, uses, notes)) is { } declaration)
                found[key.Value] = declaration;
        }
        return found.ToImmutable();
    }

    /// <summary>Names become parts of paths and addresses, so they are lower-case letters, digits and inner hyphens, at most 63.</summary>
    public static bool IsName(string text) =>
        text.Length is >= 1 and <= 63
        && text[0] != '-'
        && text[^1] != '-'
        && text.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c == '-');

    /// <summary>What is wrong with a path of a charter, or null. It must be absolute and plain.</summary>
    internal static string? PathProblem(string path) =>
        !path.StartsWith('/') ? $"'{path}' is not an absolute path; begin it with '/'"
        : path.Contains('\0') ? "a path cannot contain a null character"
        : path.Split('/').Contains("..") ? $"'{path}' contains '..'; write the path it stands for"
        : null;

    public static string Normal(string path) =>
        "/" + string.Join('/', path.Split('/', StringSplitOptions.RemoveEmptyEntries).Where(p => p != "."));

    private void Wrong(CharterNode node, string about, string message) => mistakes.Add(new Mistake(node.Line, node.Column, about, message));
}
