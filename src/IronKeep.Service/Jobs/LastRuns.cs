using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Duty;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Jobs;

/// <summary>
/// The last run of each job on each machine. Of a whole charter it is remembered, and only runs are read again that are new, had not ended
/// well or of which a fact was said: pages that are open ask for all of them again and again.
/// </summary>
public sealed class LastRuns(TimeProvider clock)
{
    /// <summary>Ids are given before a change is committed: so many below the highest that was seen may still have come after it.</summary>
    private const int MayComeLater = 200;
    private const int MostAnew = 1_000;
    private const int ReadAtOnce = 500;
    private static readonly Duration Remembers = Duration.FromMinutes(5);
    private volatile Remembered? remembered;

    private sealed record Remembered(
        Charter Charter,
        long UpTo,
        long Highest,
        Instant At,
        Dictionary<(string Job, string Machine), Run> Last
    );

    /// <summary>By job and machine; jobs that never ran are not among them.</summary>
    public async Task<Dictionary<(string Job, string Machine), Run>> OfAllAsync(KeepContext db, Charter charter, CancellationToken cancel)
    {
        // Before the runs: of what is said meanwhile the next to ask reads once more.
        var upTo = await db.Facts.MaxAsync(f => (long?)f.Id, cancel) ?? 0;
        var highest = await db.Runs.MaxAsync(r => (long?)r.Id, cancel) ?? 0;
        var now = clock.Now();
        var last =
            remembered is { } known && ReferenceEquals(known.Charter, charter) && now >= known.At && now - known.At < Remembers
                ? await BroughtUpAsync(db, known, upTo, highest, cancel)
                : null;
        last ??= await OfAsync(db, charter.Placed.All, cancel);
        remembered = new Remembered(charter, upTo, highest, now, last);
        return last;
    }

    /// <summary>A seek for each job, where grouping would walk through all runs there ever were.</summary>
    public static Task<Dictionary<(string Job, string Machine), Run>> OfAsync(
        KeepContext db,
        IReadOnlyCollection<PlacedJob> jobs,
        CancellationToken cancel
    ) =>
        Freshness
            .Rows(db, jobs)
            .Join(
                db.Runs,
                w =>
                    db.Runs.Where(r => r.Job == w.Job && r.Machine == w.Machine && (r.Kind == RunKind.Backup || r.Kind == RunKind.Watched))
                        .OrderByDescending(r => r.Id)
                        .Select(r => (long?)r.Id)
                        .FirstOrDefault(),
                r => (long?)r.Id,
                (_, r) => r
            )
            .AsNoTracking()
            .ToDictionaryAsync(r => (r.Job!, r.Machine), cancel);

    /// <summary>Null when so much has happened that all are better read anew.</summary>
    private static async Task<Dictionary<(string Job, string Machine), Run>?> BroughtUpAsync(
        KeepContext db,
        Remembered known,
        long upTo,
        long highest,
        CancellationToken cancel
    )
    {
        var told = await db
            .Facts.Where(f => f.Id > known.UpTo && f.Id <= upTo && (f.RunId != null || f.Job != null))
            .OrderBy(f => f.Id)
            .Take(MostAnew)
            .Select(f => new
            {
                f.RunId,
                f.Job,
                f.Machine,
            })
            .ToListAsync(cancel);
        // What ended badly or surprisingly a person may have confirmed since, which no fact says.
        var open = known
            .Last.Values.Where(r => r.State != RunState.Ended || r.Outcome is not (Outcome.Ok or Outcome.Warned) || r.Surge is not null)
            .Select(r => r.Id);
        var again = told.Select(f => f.RunId)
            .OfType<long>()
            .Union(told.Select(f => known.Last.GetValueOrDefault((f.Job ?? "", f.Machine ?? ""))?.Id).OfType<long>())
            .Union(open)
            .ToList();
        if (told.Count >= MostAnew || again.Count >= MostAnew || highest - known.Highest >= MostAnew)
            return null;
        var from = known.Highest - MayComeLater;
        var runs = db.Runs.AsNoTracking().Where(r => r.Job != null && (r.Kind == RunKind.Backup || r.Kind == RunKind.Watched));
        // Asked apart: together a database would go through all runs there ever were.
        var read = await runs.Where(r => r.Id > from).ToListAsync(cancel);
        foreach (var ids in again.Chunk(ReadAtOnce))
            read.AddRange(await runs.Where(r => r.Id <= from && ids.Contains(r.Id)).ToListAsync(cancel));
        var last = new Dictionary<(string Job, string Machine), Run>(known.Last);
        foreach (var run in read.OrderBy(r => r.Id))
            if (!last.TryGetValue((run.Job!, run.Machine), out var before) || run.Id >= before.Id)
                last[(run.Job!, run.Machine)] = run;
        return last;
    }
}
