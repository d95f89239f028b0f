using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Runs;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Duty;

/// <summary>
/// All that helps a person to settle an alert in one place, so that nobody has to look it up elsewhere.
/// </summary>
public sealed class AlertDetail(CharterInForce inForce, IRunLogs logs, TimeProvider clock)
{
    private static readonly Duration LooksBack = Duration.FromDays(366);
    private const int MostBefore = 20,
        MostDeeds = 500,
        MostJobs = 200,
        MostLines = 6,
        MostCopies = 50,
        MostTickets = 20,
        MostPaths = 20,
        LogPages = 50;

    public static void Map(IEndpointRouteBuilder api)
    {
        api.MapGet(
                "/alerts/{id:long}",
                async Task<Results<Ok<AlertWholeAnswer>, ProblemHttpResult>> (
                    long id,
                    KeepContext db,
                    AlertDetail detail,
                    CancellationToken cancel
                ) =>
                    await db.Alerts.AsNoTracking().FirstOrDefaultAsync(a => a.Id == id, cancel) is { } alert
                        ? TypedResults.Ok(await detail.OfAsync(db, alert, cancel))
                        : Problems.NotThere("alert", $"{id}", "alerts")
            )
            .WithSummary("An alert with what was done about it, the jobs it concerns, the lines that say why, and the same trouble before");
    }

    /// <summary>The job that an alert is about, or those that one cause stopped.</summary>
    internal static List<string> JobsOf(Alert alert) =>
        [
            .. alert
                .Affected.Split('\n', StringSplitOptions.RemoveEmptyEntries)
                .Concat(alert is { SubjectKind: SubjectKind.Job, SubjectJob: { } own } ? [own] : [])
                .Distinct(),
        ];

    /// <summary>The same as the charter in force has them; one that is on several machines there where the alert is about.</summary>
    internal static IEnumerable<PlacedJob> PlacedOf(Charter charter, Alert alert) =>
        JobsOf(alert)
            .SelectMany(name => charter.Placed.Find(name, alert.SubjectMachine) is { } there ? [there] : charter.Placed.Named(name));

    /// <summary>What a damaged store cannot give back: the newest copies, and the first files of each.</summary>
    private static async Task<List<AlertCopyAnswer>> CopiesAsync(KeepContext db, Alert alert, CancellationToken cancel)
    {
        if (alert is not { Class: AlertClass.Unsound, SubjectKind: SubjectKind.Store, SubjectStore: { } store })
            return [];
        var hurt = await db
            .Copies.AsNoTracking()
            .Where(c => c.Store == store && c.GoneAt == null && c.State == CopyState.Unsound)
            .OrderByDescending(c => c.Taken)
            .Take(MostCopies)
            .ToListAsync(cancel);
        return
        [
            .. hurt.Select(c => new AlertCopyAnswer(
                c.Id,
                c.Job,
                c.Machine,
                c.Taken.ToDateTimeOffset(),
                (int)Math.Min(int.MaxValue, c.DamageCount),
                [.. c.Damage.Split('\n', StringSplitOptions.RemoveEmptyEntries).Take(MostPaths)]
            )),
        ];
    }

    private static async Task<List<AlertTicketAnswer>> TicketsAsync(KeepContext db, Alert alert, CancellationToken cancel) =>
        (
            await db
                .Tickets.AsNoTracking()
                .Where(t => t.AlertId == alert.Id)
                .OrderByDescending(t => t.Id)
                .Take(MostTickets)
                .ToListAsync(cancel)
        ).ConvertAll(t => new AlertTicketAnswer(
            t.Channel,
            t.Reference,
            t.Page,
            t.OpenedAt.ToDateTimeOffset(),
            t.ClosedAt?.ToDateTimeOffset()
        ));

    private async Task<AlertWholeAnswer> OfAsync(KeepContext db, Alert alert, CancellationToken cancel)
    {
        var deeds = await db
            .AlertDeeds.AsNoTracking()
            .Where(d => d.AlertId == alert.Id)
            .OrderByDescending(d => d.Id)
            .Take(MostDeeds)
            .ToListAsync(cancel);
        var (before, times) = await BeforeAsync(db, alert, cancel);
        var runs = await RunsOfAsync(db, deeds, cancel);
        return new AlertWholeAnswer(
            alert.ToAnswer(),
            [
                .. deeds
                    .OrderBy(d => d.Id)
                    .Select(d =>
                    {
                        var (state, outcome) = d.RunId is { } id ? runs.GetValueOrDefault(id) : default;
                        return new AlertDeedAnswer(d.At.ToDateTimeOffset(), d.Kind, d.By, d.Words, d.RunId, state, outcome);
                    }),
            ],
            await JobsAsync(db, alert, cancel),
            await LinesAsync(alert, cancel),
            before,
            times,
            await CopiesAsync(db, alert, cancel),
            await TicketsAsync(db, alert, cancel)
        );
    }

    /// <summary>How the runs that were begun because of alerts stand.</summary>
    private static async Task<Dictionary<long, (RunState? State, Outcome? Outcome)>> RunsOfAsync(
        KeepContext db,
        IEnumerable<AlertDeed> deeds,
        CancellationToken cancel
    )
    {
        var ids = deeds.Select(d => d.RunId).OfType<long>().Distinct().ToList();
        var rows = await db
            .Runs.AsNoTracking()
            .Where(r => ids.Contains(r.Id))
            .Select(r => new
            {
                r.Id,
                r.State,
                r.Outcome,
            })
            .ToListAsync(cancel);
        return rows.ToDictionary(r => r.Id, r => ((RunState?)r.State, r.Outcome));
    }

    private async Task<List<AlertJobAnswer>> JobsAsync(KeepContext db, Alert alert, CancellationToken cancel)
    {
        var now = clock.Now();
        var found = new List<AlertJobAnswer>();
        foreach (var job in PlacedOf(inForce.Charter, alert).Take(MostJobs))
        {
            var (name, machine) = (job.Name, job.Machine);
            var standing = (await Freshness.OfAsync(db, [job], now, cancel))[(name, machine)];
            var last = await db
                .Runs.AsNoTracking()
                .Where(r => r.Job == name && r.Machine == machine && (r.Kind == RunKind.Backup || r.Kind == RunKind.Watched))
                .OrderByDescending(r => r.Id)
                .FirstOrDefaultAsync(cancel);
            found.Add(
                new AlertJobAnswer(
                    name,
                    machine,
                    job.Watched,
                    standing.Newest?.Taken.ToDateTimeOffset(),
                    job.FreshWithin?.ToString(),
                    Freshness.IsStale(job, standing, now),
                    last?.ToAnswer(charter: inForce.Charter)
                )
            );
        }
        return found;
    }

    /// <summary>The last lines of the alert's run that are more than a remark; none where its log is gone.</summary>
    private async Task<List<RunLogLine>> LinesAsync(Alert alert, CancellationToken cancel)
    {
        if (alert.RunId is not { } run)
            return [];
        var last = new Queue<RunLogLine>();
        var from = 0;
        for (var page = 0; page < LogPages; page++)
        {
            var read = await logs.ReadAsync(run, from, LogSeverity.Warning, cancel);
            foreach (var line in read.Lines)
            {
                last.Enqueue(line);
                if (last.Count > MostLines)
                    last.Dequeue();
            }
            if (!read.More || read.Next <= from)
                break;
            from = read.Next;
        }
        return [.. last];
    }

    private async Task<(List<AlertBeforeAnswer> Before, int Times)> BeforeAsync(KeepContext db, Alert alert, CancellationToken cancel)
    {
        var since = clock.Now() - LooksBack;
        var same = db
            .Alerts.AsNoTracking()
            .Where(alert.Subject.Has)
            .Where(a => a.Class == alert.Class && a.Id < alert.Id && a.LastAt >= since);
        var times = await same.CountAsync(cancel);
        var rows = await same.OrderByDescending(a => a.Id).Take(MostBefore).ToListAsync(cancel);
        var ids = rows.ConvertAll(r => r.Id);
        var deeds = await db
            .AlertDeeds.AsNoTracking()
            .Where(d => ids.Contains(d.AlertId) && (d.Kind == AlertDeedKind.Noted || d.Kind == AlertDeedKind.Rerun))
            .OrderBy(d => d.Id)
            .Take(MostDeeds)
            .ToListAsync(cancel);
        var runs = await RunsOfAsync(db, deeds, cancel);
        var notes = deeds.Where(d => d.Kind == AlertDeedKind.Noted).ToLookup(d => d.AlertId, d => $"{d.By}: {d.Words}");
        var tried = deeds
            .Where(d => d is { Kind: AlertDeedKind.Rerun, RunId: not null })
            .ToLookup(
                d => d.AlertId,
                d =>
                {
                    var (state, outcome) = runs.GetValueOrDefault(d.RunId!.Value);
                    return new AlertTriedAnswer(d.RunId!.Value, d.By, d.Words, state, outcome);
                }
            );
        return (
            rows.ConvertAll(a => new AlertBeforeAnswer(
                a.Id,
                a.OpenedAt.ToDateTimeOffset(),
                a.ClosedAt?.ToDateTimeOffset(),
                a.ClosedAt is { } closed ? (closed - a.OpenedAt).TotalSeconds : null,
                a.Count,
                a.ClosedBy,
                a.ClosedReason,
                [.. notes[a.Id]],
                [.. tried[a.Id]]
            )),
            times
        );
    }
}
