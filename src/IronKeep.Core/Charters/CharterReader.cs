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
public sealed class CharterReader
{
    private readonly List<Mistake> mistakes = [];
    private readonly List<Use> uses = [];
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
        var read = new ValueReader("the charter", mistakes, uses);
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
        var charter = Charter.Empty with
        {
            Zone = zone,
            DutyMail = dutyMail,
            SignOfLife = signOfLife,
            HeartbeatFile = heartbeat?.Value,
            HeartbeatEvery = read.Span(map.Scalar("heartbeat-every"), atLeastOne: true) ?? Charter.UsualHeartbeat,
            Tells = tells,
            RunsAtOnce = read.Number(map.Scalar("runs-at-once"), "a number of runs", 1, DefinitionReaders.MostAtOnce),
            AgentLapses = read.Span(map.Scalar("agent-lapses"), atLeastOne: true) ?? AgentRight.UsualLapse,
            Machines = Named(map.Map("machines"), "machine", DefinitionReaders.Machine),
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
            Jobs = Named(map.Map("jobs"), "job", JobReader.Read),
        };
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
        CheckFollowers(charter.Jobs);
        CheckTimes(charter);
        CheckLayouts(charter);
        CheckReadOver(charter);
        CheckStreams(charter);
        CheckReached(charter);
        CheckTold(charter);
        RotationReader.CheckLabels(charter.MediaGroups.Values, mistakes, map.Map("media-groups") ?? root);
        return charter;
    }

    /// <summary>What can only be told with a job's zone and calendar at hand.</summary>
    private void CheckTimes(Charter charter)
    {
        foreach (var job in charter.Jobs.Values.Where(j => j.When is not null))
        {
            var (line, column) = places[$"job {job.Name}"];
            if (job.When!.NamedZone is { } named && named != charter.ZoneOf(job).Id)
                mistakes.Add(
                    new Mistake(
                        line,
                        column,
                        $"job {job.Name}",
                        $"its rule says that its times are in {named}, but the job's zone is {charter.ZoneOf(job).Id}; give the job 'zone: "
                            + $"{named}', or take the zone out of the rule"
                    )
                );
            var needsCalendar = job.When is ClockSchedule { Days: WorkingDayRule };
            if (
                needsCalendar
                && job.Calendar is { } calendar
                && charter.Calendars.TryGetValue(calendar, out var days)
                && !job.When.IsEverDue(days.Closed)
            )
                mistakes.Add(
                    new Mistake(
                        line,
                        column,
                        $"job {job.Name}",
                        $"is never due: calendar '{calendar}' closes every day that '{job.When}' could mean"
                    )
                );
        }
    }

    /// <summary>A store that only a machine's agent reaches takes that machine's copies alone.</summary>
    private void CheckReached(Charter charter)
    {
        foreach (var job in charter.Jobs.Values)
        foreach (var store in job.Into.Where(s => charter.Stores.TryGetValue(s, out var found) && found.On is { } on && on != job.On))
            Wrong(
                uses.First(u => u.About == $"job {job.Name}" && u.Kind == "store" && u.Name.Value == store).Name,
                $"job {job.Name}",
                $"store '{store}' lies on {charter.Stores[store].On}, whose agent alone reaches it, and this job is on "
                    + $"{job.On ?? "the service's own machine"}; choose another store, or let it be 'on: {charter.Stores[store].On}'"
            );
    }

    /// <summary>A step whose output is taken says as what it is kept.</summary>
    private void CheckStreams(Charter charter)
    {
        foreach (var job in charter.Jobs.Values)
        foreach (var step in job.Streams.Where(s => charter.Steps.TryGetValue(s, out var found) && found.KeepsAs is null))
            Wrong(
                uses.First(u => u.About == $"job {job.Name}" && u.Kind == "step" && u.Name.Value == step).Name,
                $"job {job.Name}",
                $"step '{step}' does not say as what its output is kept; give it 'keeps-as: {job.Name}.dump', or such"
            );
    }

    private static readonly string[] Tellable = ["channel", "person", "rota"];

    /// <summary>Whoever tells must name one thing with one name, and reach somebody in every hour of every week.</summary>
    private void CheckTold(Charter charter)
    {
        foreach (var (name, _) in charter.People.Select(p => (p.Key, 0)).Concat(charter.Rotas.Select(r => (r.Key, 1))))
        {
            var kinds = Tellable.Where(k => places.ContainsKey($"{k} {name}")).ToList();
            if (kinds.Count < 2)
                continue;
            var (line, column) = places[$"{kinds[^1]} {name}"];
            mistakes.Add(
                new Mistake(
                    line,
                    column,
                    $"{kinds[^1]} {name}",
                    $"there is a {kinds[0]} '{name}' too, and 'tells' could mean either; give one of them another name"
                )
            );
        }
        if (mistakes.Count > 0)
            return;
        var weekly = Holes.WithoutDaysAway(charter);
        var asked = new HashSet<string>();
        foreach (var group in uses.Where(u => u.Kind == CharterLanguage.Tellable).GroupBy(u => u.About))
        {
            var lists = charter.Routes.Values.Where(r => $"route {r.Name}" == group.Key).SelectMany(r => new[] { r.Tells, r.ThenTells });
            if (!group.Key.StartsWith("route ", StringComparison.Ordinal))
                lists =
                [
                    [.. group.Select(u => u.Name.Value)],
                ];
            foreach (var names in lists.Where(l => l.Length > 0 && asked.Add(string.Join(' ', l))))
                if (HoleOf(weekly, names) is { } hole)
                    Wrong(group.First(u => names.Contains(u.Name.Value)).Name, group.Key, hole);
            if (MoreThanAlerts(charter, group.Key) is { } what && Addressees.TakeAlertsAlone(charter, what.Tells))
                Wrong(
                    group.First().Name,
                    group.Key,
                    $"a ticket desk takes alerts alone, so nobody would be told {what.Of}; name a person, a rota or another channel as well"
                );
        }
    }

    /// <summary>What else than alerts those are told whom something names, and who they are; null where it is alerts alone.</summary>
    private static (string Of, ImmutableArray<string> Tells)? MoreThanAlerts(Charter charter, string about)
    {
        if (about == "the charter" && (charter.DutyMail ?? charter.SignOfLife) is not null)
            return ("the duty report and the sign of life", charter.Tells);
        var name = about[(about.IndexOf(' ', StringComparison.Ordinal) + 1)..];
        if (about == $"report {name}" && charter.Reports.TryGetValue(name, out var report))
            return ("that report", report.Tells);
        if (about == $"route {name}" && charter.Routes.GetValueOrDefault(name) is { TellWhen: TellWhen.Always } route)
            return ("how runs end", route.Tells);
        if (about == $"job {name}" && charter.Jobs.GetValueOrDefault(name) is { TellWhen: TellWhen.Always } job)
            return ("how its runs end", job.Tells);
        return null;
    }

    private static string? HoleOf(Charter charter, ImmutableArray<string> names)
    {
        var from = Holes.Beginning(charter, names);
        if (Holes.First(charter, names, from, from + Holes.Year) is not { } hole)
            return null;
        string Local(Instant at) => at.InZone(charter.Zone).ToString("ddd HH:mm", CultureInfo.InvariantCulture);
        var turns = names
            .Select(n => charter.Rotas.GetValueOrDefault(n))
            .OfType<RotaDefinition>()
            .Select(r => $" while {r.TurnAt(hole.From, charter.Zone).Person} is on duty");
        return $"nobody is told from {Local(hole.From)} to {Local(hole.Until)}{string.Concat(turns.Take(1))}: all are outside their hours; "
            + $"widen the hours, add a stand-in to the rota, or name a channel as well";
    }

    /// <summary>The service writes into stores of its own; what others write lies in stores of dated files, and says whose it is.</summary>
    private void CheckLayouts(Charter charter)
    {
        foreach (var use in uses.Where(u => u.Kind == "store" && u.About.StartsWith("job ", StringComparison.Ordinal)))
        {
            if (
                !charter.Stores.TryGetValue(use.Name.Value, out var store)
                || !charter.Jobs.TryGetValue(use.About["job ".Length..], out var job)
            )
                continue;
            if (job.Watched && store.Dated is null)
                Wrong(
                    use.Name,
                    use.About,
                    $"leaves its copies in store '{store.Name}', which the service alone writes; name a store with 'layout: dated-files'"
                );
            if (!job.Watched && store.Dated is not null)
                Wrong(
                    use.Name,
                    use.About,
                    $"store '{store.Name}' holds dated files that something else writes; the service puts its copies into stores of its "
                        + $"own only"
                );
            if (
                store.Dated is { Name.HasJob: false }
                && charter.Jobs.Values.FirstOrDefault(j => j.Into.Contains(store.Name)) is { } first
                && first.Name != job.Name
            )
                Wrong(
                    use.Name,
                    use.About,
                    $"job {first.Name} leaves its copies in store '{store.Name}' already, and its names do not tell whose a file is; put "
                        + $"{{job}} into the names, or give each job a store of its own"
                );
        }
    }

    /// <summary>On a machine that the service reads itself nothing can be run, and nobody is there who could say how it stands.</summary>
    private void CheckReadOver(Charter charter)
    {
        foreach (
            var job in charter.Jobs.Values.Where(j =>
                !j.Watched && j.On is { } on && charter.Machines.GetValueOrDefault(on)?.ReadOver is not null
            )
        )
        {
            var odd =
                !charter.StepsOf(job).IsEmpty ? "steps"
                : !job.Streams.IsEmpty ? "streams"
                : !job.StillAt.IsEmpty ? "moments that are held still"
                : !job.Needs.IsEmpty ? "needs"
                : job.WatchesService is not null ? "a service that is watched"
                : null;
            if (odd is not null)
                Wrong(
                    uses.First(u => u.Kind == "machine" && u.About == $"job {job.Name}").Name,
                    $"job {job.Name}",
                    $"has {odd}, and {job.On} is read over SFTP, where nothing else can be done; give it an agent, or take them out"
                );
        }
        foreach (
            var store in charter.Stores.Values.Where(s => s.On is { } on && charter.Machines.GetValueOrDefault(on)?.ReadOver is not null)
        )
            Wrong(
                uses.First(u => u.Kind == "machine" && u.About == $"store {store.Name}").Name,
                $"store {store.Name}",
                $"lies on {store.On}'s own disk, and {store.On} is read over SFTP and has no agent that could write there"
            );
    }

    /// <summary>A job that follows others must in the end follow one that is due by itself.</summary>
    private void CheckFollowers(ImmutableSortedDictionary<string, JobDefinition> jobs)
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
            if (at.After == job.Name)
                Wrong(
                    NameIn(job),
                    $"job {job.Name}",
                    $"runs in a circle: {string.Join(" after ", way.Append(job.Name))}; give one of them a 'when' in place of its 'after'"
                );
            else if (at.After is null && at.When is null)
                Wrong(NameIn(job), $"job {job.Name}", $"would never be due: {at.Name} runs by hand only; give {at.Name} a 'when'");
            else if (at.Watched)
                Wrong(
                    NameIn(job),
                    $"job {job.Name}",
                    $"follows {at.Name}, which is a watched job; only jobs that the service carries out can be followed"
                );
        }

        ScalarNode NameIn(JobDefinition job) => uses.First(u => u.Kind == "job" && u.About == $"job {job.Name}").Name;
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
            if (read(key.Value, value, new ValueReader($"{kind} {key.Value}", mistakes, uses)) is { } declaration)
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
