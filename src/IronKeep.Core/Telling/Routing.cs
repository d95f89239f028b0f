using System.Collections.Immutable;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Telling;

/// <summary>
/// What is to be told, as routes look at it. A job stands for its machine, stores and tags too; null where the matter is not about one.
/// </summary>
public sealed record Told(AlertClass? Class, Severity Severity, string? Job = null, string? Machine = null, string? Store = null)
{
    /// <summary>The channel that the matter is about: it is not told through itself.</summary>
    public string? Channel { get; init; }
}

/// <summary>
/// One place that is told, and by which route (null: by what the job or the charter tells). <see cref="Gathered"/> says when, where it is
/// gathered with others rather than told at once, and under which name.
/// </summary>
public sealed record Recipient(Addressee To, string? Route, string Why)
{
    public Gathering? Gathered { get; init; }
}

/// <summary>What is told together, under a name of its own, and when.</summary>
public sealed record Gathering(string Name, Instant At);

/// <summary>An addressee more, for what nobody has seen.</summary>
public sealed record Escalation(string Route, Instant At, ImmutableArray<Addressee> To);

/// <summary>
/// Who is told of what. Every route that takes a matter is told, and the channels that its job names; what neither takes goes to those that
/// the charter tells. Source: docs/semantics.md, section 6 (Watching).
/// </summary>
public static class Routing
{
    /// <summary>Who is told at an instant, each place once. What lies in a maintenance window is gathered until its end.</summary>
    public static ImmutableArray<Recipient> Of(Charter charter, Told matter, Instant at)
    {
        if (Maintenance(charter, matter, at) is { } window)
            return
            [
                .. AtOnce(charter, matter, window.At, false)
                    .Select(t => t with { Gathered = window, Why = $"{t.Why}; {window.Name} ends then" }),
            ];
        return AtOnce(charter, matter, at, true);
    }

    /// <summary>The maintenance window that a matter lies in, with its end; null when it lies in none.</summary>
    public static Gathering? Maintenance(Charter charter, Told matter, Instant at)
    {
        Gathering? found = null;
        foreach (var window in charter.MaintenanceWindows.Values)
            if (Covers(charter, window, matter) && window.EndAround(at, charter.Zone) is { } end && (found is null || end > found.At))
                found = new Gathering($"maintenance window {window.Name}", end);
        return found;
    }

    /// <summary>Who hears of the end of a run that went as it should: whoever wants to hear always.</summary>
    public static ImmutableArray<Recipient> OfRunEnd(Charter charter, JobDefinition job, string machine, bool trouble, Instant at)
    {
        var matter = new Told(null, Severity.Notice, job.Name, machine);
        if (trouble)
            return Of(charter, matter, at);
        var tellings = new List<Recipient>();
        if (job.TellWhen == TellWhen.Always)
            tellings.AddRange(Own(charter, matter, at));
        foreach (var route in charter.Routes.Values.Where(r => r.TellWhen == TellWhen.Always && Takes(charter, r, matter)))
            tellings.AddRange(By(charter, route, at, true));
        return [.. tellings.DistinctBy(t => t.To.Place)];
    }

    /// <summary>When a matter that nobody saw since an instant is told to others, and to whom, by each route that says so.</summary>
    public static IEnumerable<Escalation> Escalations(Charter charter, Told matter, Instant since)
    {
        foreach (var route in charter.Routes.Values)
            if (route.UnseenFor is { } unseen && Takes(charter, route, matter))
            {
                var at = unseen.After(since, charter.Zone);
                yield return new Escalation(
                    route.Name,
                    at,
                    [.. Addressees.Of(charter, route.ThenTells, at).Where(a => a.Channel != matter.Channel)]
                );
            }
    }

    private static ImmutableArray<Recipient> AtOnce(Charter charter, Told matter, Instant at, bool digests)
    {
        var tellings = new List<Recipient>();
        foreach (var route in charter.Routes.Values.Where(r => Takes(charter, r, matter)))
            tellings.AddRange(By(charter, route, at, digests).Where(t => t.To.Channel != matter.Channel));
        if (tellings.Count == 0 || Job(charter, matter) is { Tells.Length: > 0 })
            tellings.AddRange(Own(charter, matter, at));
        // Told at once and in a digest is told at once.
        return [.. tellings.OrderBy(t => t.Gathered is null ? 0 : 1).DistinctBy(t => t.To.Place)];
    }

    /// <summary>By what the job names, or the charter where it names nothing.</summary>
    private static IEnumerable<Recipient> Own(Charter charter, Told matter, Instant at)
    {
        if (matter.Channel is { } silent)
        {
            // What cannot be told through one channel is told through all others.
            foreach (var channel in charter.Channels.Keys.Where(c => c != silent))
                yield return new Recipient(
                    new Addressee(channel, null, null, null, $"channel {silent} cannot tell of itself"),
                    null,
                    $"channel {silent} cannot tell of itself"
                );
            yield break;
        }
        var job = Job(charter, matter);
        var whose = job is { Tells.Length: > 0 } ? $"job {job.Name}" : "the charter";
        foreach (var to in Addressees.Of(charter, job is { Tells.Length: > 0 } ? job.Tells : charter.Tells, at))
            yield return new Recipient(to, null, $"{whose} tells: {to.Why}");
    }

    private static IEnumerable<Recipient> By(Charter charter, RouteDefinition route, Instant at, bool digests)
    {
        var gathered =
            digests && route.Digest is { } digest && DueInstants.Next(digest, charter.Zone, at) is { } then
                ? new Gathering($"route {route.Name}", then)
                : null;
        foreach (var to in Addressees.Of(charter, route.Tells, gathered?.At ?? at))
            yield return new Recipient(to, route.Name, $"route {route.Name} takes it: {to.Why}") { Gathered = gathered };
    }

    /// <summary>Whether every condition of a route applies.</summary>
    public static bool Takes(Charter charter, RouteDefinition route, Told matter)
    {
        var job = Job(charter, matter);
        return (route.Severities.IsEmpty || (matter.Class is not null && route.Severities.Contains(matter.Severity)))
            && (route.Classes.IsEmpty || (matter.Class is { } kind && route.Classes.Contains(kind)))
            && (route.Jobs.IsEmpty || (matter.Job is { } name && route.Jobs.Contains(name)))
            && (route.Machines.IsEmpty || (matter.Machine is { } machine && route.Machines.Contains(machine)))
            && (route.Stores.IsEmpty || StoresOf(matter, job).Any(s => route.Stores.Contains(s)))
            && (route.Tags.IsEmpty || TagsOf(charter, matter, job).Any(t => route.Tags.Contains(t)));
    }

    private static bool Covers(Charter charter, MaintenanceWindow window, Told matter)
    {
        var job = Job(charter, matter);
        return window.Everything
            || (matter.Machine is { } machine && window.Machines.Contains(machine))
            || StoresOf(matter, job).Any(s => window.Stores.Contains(s))
            || TagsOf(charter, matter, job).Any(t => window.Tags.Contains(t));
    }

    private static JobDefinition? Job(Charter charter, Told matter) =>
        matter.Job is { } name ? charter.Placed.Find(name, matter.Machine) ?? charter.Jobs.GetValueOrDefault(name) : null;

    private static ImmutableArray<string> StoresOf(Told matter, JobDefinition? job) =>
        matter.Store is { } store ? [store] : job?.Into ?? [];

    private static IEnumerable<string> TagsOf(Charter charter, Told matter, JobDefinition? job) =>
        (job?.Tags ?? []).Concat(
            matter.Machine is { } machine && charter.Machines.TryGetValue(machine, out var declared) ? declared.Tags : []
        );
}
