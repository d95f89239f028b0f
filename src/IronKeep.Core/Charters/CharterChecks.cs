using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Machines;
using IronKeep.Core.Schedules;
using IronKeep.Core.Telling;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>What can only be told of a charter when all of it is read.</summary>
public sealed partial class CharterReader
{
    /// <summary>A word that selects machines is the name of none.</summary>
    private void CheckNames(Charter charter)
    {
        foreach (var word in new[] { MachineSelection.RestWord, MachineSelection.AllWord }.Where(charter.Machines.ContainsKey))
            Wrong(
                places[$"machine {word}"],
                $"machine {word}",
                $"'on: {word}' means every machine{(word == MachineSelection.AllWord ? "" : " that no other job takes")}, so no "
                    + $"machine can be called that; give it another name"
            );
    }

    /// <summary>The service's own machine is at work; a job that names one that is retired is told of it.</summary>
    private void CheckRetired(Charter charter)
    {
        if (charter.Machines.GetValueOrDefault(charter.Own)?.Retired is not null)
            Wrong(
                places[$"machine {charter.Own}"],
                $"machine {charter.Own}",
                $"the service runs on {charter.Own}, so it cannot be retired; take 'retired' and what goes with it out"
            );
        foreach (var job in charter.Jobs.Values.Where(j => j.Selection.Kind == SelectionKind.Named))
        foreach (var name in job.Selection.Names)
            if (charter.Machines.GetValueOrDefault(name)?.Retired is { } retired)
            {
                var (line, column) = At(job.Name, "machine", name);
                notes.Add(
                    new Mistake(
                        line,
                        column,
                        $"job {job.Name}",
                        $"{name} is retired since {SentenceWords.Date(retired.Since)}, so nothing is done there; take its name out"
                    )
                );
            }
    }

    /// <summary>Where something about a job is said: at the place that names this, else at the job.</summary>
    private (int Line, int Column) At(string job, string kind, string? name = null) =>
        uses.FirstOrDefault(u => u.About == $"job {job}" && u.Kind == kind && (name is null || u.Name.Value == name)).Name is { } node
            ? (node.Line, node.Column)
            : places[$"job {job}"];

    private void Wrong((int Line, int Column) at, string about, string message) =>
        mistakes.Add(new Mistake(at.Line, at.Column, about, message));

    /// <summary>The variables of a job's paths are known, and each of its machines has a value for them.</summary>
    private void CheckPaths(Charter charter)
    {
        foreach (var job in charter.Jobs.Values)
        foreach (var path in PathVariables.Paths(job).Where(p => p.AsSpan().ContainsAny('{', '}')))
        {
            var problem = charter
                .Placed.Named(job.Name)
                .Select(j => PathVariables.Fill(path, charter.Machines.GetValueOrDefault(j.Machine), j.Machine, out _))
                .FirstOrDefault(p => p is not null);
            if (problem is not null)
                Wrong(places[$"job {job.Name}"], $"job {job.Name}", $"'{path}' {problem}");
        }
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
        foreach (var job in charter.Placed.All)
        foreach (var store in job.Into.Where(s => charter.Stores.TryGetValue(s, out var found) && found.On is { } on && on != job.Machine))
            Wrong(
                At(job.Name, "store", store),
                $"job {job.Name}",
                $"store '{store}' lies on {charter.Stores[store].On}, whose agent alone reaches it, and this job is on "
                    + $"{(job.Selection.Kind == SelectionKind.Own ? "the service's own machine" : job.Machine)}; choose another store, or "
                    + $"let it be 'on: {charter.Stores[store].On}'"
            );
    }

    /// <summary>A step whose output is taken says as what it is kept.</summary>
    private void CheckStreams(Charter charter)
    {
        foreach (var job in charter.Placed.All)
        foreach (var step in job.Streams.Where(s => charter.Steps.TryGetValue(s, out var found) && found.KeepsAs is null))
            Wrong(
                At(job.Name, "step", step),
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
        foreach (var job in charter.Jobs.Values.Where(j => j.Partials is not null))
            if (!job.Into.Any(s => charter.Stores.GetValueOrDefault(s)?.Plain is not null))
                Wrong(
                    At(job.Name, "job", job.Name),
                    $"job {job.Name}",
                    "makes partial copies, and none of its stores keeps plain archives; take out 'partials', or "
                        + "name a store with 'layout: plain'"
                );
        foreach (var job in charter.Placed.All)
        foreach (var name in job.Into)
        {
            if (!charter.Stores.TryGetValue(name, out var store))
                continue;
            void Odd(string what) => Wrong(At(job.Name, "store", name), $"job {job.Name}", what);
            if (job.Watched && store.Dated is null)
                Odd($"leaves its copies in store '{name}', which the service alone writes; name a store with 'layout: dated-files'");
            if (!job.Watched && store.Dated is not null)
                Odd(
                    $"store '{name}' holds dated files that something else writes; the service puts its copies into stores of its own only"
                );
            if (store.Plain is not null && job.Machine != charter.Own && charter.Machines.GetValueOrDefault(job.Machine)?.ReadOver is null)
                Odd(
                    $"is on {job.Machine}, and store '{name}' keeps plain archives, which are written of the service's own machine and of "
                        + $"those that it reads over SFTP; name a store of another layout"
                );
            if (store.Plain is not null && job.Streams.Length > 0)
                Odd(
                    $"takes the output of commands, which has no length before its end, and store '{name}' keeps plain archives; "
                        + $"name a store of another layout"
                );
            if (store.Dated is null)
                continue;
            if (
                !store.Dated.Name.HasJob
                && charter.Jobs.Values.FirstOrDefault(j => j.Into.Contains(name)) is { } first
                && first.Name != job.Name
            )
                Odd(
                    $"job {first.Name} leaves its copies in store '{name}' already, and its names do not tell whose a file is; put {{job}} "
                        + $"into the names, or give each job a store of its own"
                );
            if (job.IsOnSeveral && !store.Dated.Name.HasMachine)
                Odd($"is on several machines, and the names in store '{name}' do not tell of which a file is; put {{machine}} into them");
        }
    }

    /// <summary>On a machine that the service reads itself nothing can be run, and nobody is there who could say how it stands.</summary>
    private void CheckReadOver(Charter charter)
    {
        foreach (
            var job in charter.Placed.All.Where(j => !j.Watched && charter.Machines.GetValueOrDefault(j.Machine)?.ReadOver is not null)
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
                    At(job.Name, "machine", job.Machine),
                    $"job {job.Name}",
                    $"has {odd}, and {job.Machine} is read over SFTP, where nothing else can be done; give it an agent, or take them out"
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
    private void CheckFollowers(Charter charter)
    {
        var jobs = charter.Jobs;
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
            else if (
                jobs.ContainsKey(job.After!)
                && charter.Placed.Named(job.Name).FirstOrDefault(j => charter.Placed.Find(j.After, j.Machine) is null) is { } alone
            )
                Wrong(
                    NameIn(job),
                    $"job {job.Name}",
                    $"follows {job.After}, which is not on {alone.Machine}; a job follows another on the same machine"
                );
        }

        ScalarNode NameIn(JobDefinition job) => uses.First(u => u.Kind == "job" && u.About == $"job {job.Name}").Name;
    }
}
