using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Forecasts;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>Draws a stretch of time: what ran in it by the record, and what will run in it by the forecast.</summary>
public sealed class TimetableAxes(CharterInForce inForce, ForecastDesk forecasts, TimeProvider clock, IOptions<ServiceSettings> settings)
{
    public const int MostHours = 24 * 14;
    private const int MostBars = 20_000;

    /// <summary>A play begins so long before the stretch, so that what is at work at its start is there.</summary>
    private static readonly Duration RunUp = Duration.FromDays(2);

    public async Task<TimetableAxis> MakeAsync(KeepContext db, Instant from, int hours, CancellationToken cancel)
    {
        var now = clock.Now();
        var charter = inForce.Charter;
        var to = from + Duration.FromHours(hours);
        var bars = new List<TimetableBar>();
        if (from < now)
            bars.AddRange(await PastAsync(db, charter, from, Instant.Min(to, now), now, cancel));
        if (to > now)
            bars.AddRange(await ComingAsync(charter, from, to, now, cancel));
        return new TimetableAxis(
            from.ToDateTimeOffset(),
            to.ToDateTimeOffset(),
            now.ToDateTimeOffset(),
            charter.Zone.Id,
            [.. bars.OrderBy(b => b.Start).ThenBy(b => b.Job, StringComparer.Ordinal).Take(MostBars)],
            [.. Quiet(charter, from, to)],
            [.. Ceilings(charter)]
        );
    }

    private static async Task<List<TimetableBar>> PastAsync(
        KeepContext db,
        Charter charter,
        Instant from,
        Instant to,
        Instant now,
        CancellationToken cancel
    )
    {
        // A run can have begun before the stretch and still be drawn in it.
        var early = from - Duration.FromDays(1);
        var planned = await db.PlannedRuns.AsNoTracking().Where(p => p.Due >= early && p.Due <= to).ToListAsync(cancel);
        var ids = planned.Where(p => p.RunId is not null).Select(p => p.RunId!.Value).ToHashSet();
        var runs = await db
            .Runs.AsNoTracking()
            .Where(r => (r.Kind == RunKind.Backup || r.Kind == RunKind.Watched) && r.Queued >= early && r.Queued <= to)
            .ToListAsync(cancel);
        var byId = runs.ToDictionary(r => r.Id);
        var bars = new List<TimetableBar>();
        foreach (var p in planned)
        {
            var run = p.RunId is { } id ? byId.GetValueOrDefault(id) : null;
            var (start, end) = (run?.Began ?? p.Due, run?.Ended ?? (run?.Began is null ? run?.Began ?? p.Due : now));
            if (end >= from)
                bars.Add(
                    Bar(charter, p.Job, p.Machine, p.Due, start, end, true, p.Outcome, p.Reason ?? run?.Sentence, p.RunId) with
                    {
                        Waits = p.Outcome is null && run?.Began is null,
                    }
                );
        }
        foreach (var run in runs.Where(r => !ids.Contains(r.Id) && r.Began is not null && (r.Ended ?? now) >= from))
            bars.Add(
                Bar(
                    charter,
                    run.Job!,
                    run.Machine,
                    run.Due ?? run.Queued,
                    run.Began!.Value,
                    run.Ended ?? now,
                    true,
                    run.Outcome,
                    $"unplanned, by {run.By.Words}",
                    run.Id
                )
            );
        return bars;
    }

    private async Task<List<TimetableBar>> ComingAsync(Charter charter, Instant from, Instant to, Instant now, CancellationToken cancel)
    {
        var begin = Instant.Max(now, from - RunUp);
        var bare = charter with { RotationSets = charter.RotationSets.Clear() };
        var input = await forecasts.InputAsync(bare, (int)Math.Ceiling((to - begin).TotalDays), cancel) with { AsOf = begin, Copies = [] };
        var forecast = Forecaster.Play(input);
        var played = charter.Placed.All.ToDictionary(j => j.Words);
        var bars = new List<TimetableBar>();
        foreach (var run in forecast.Runs.Where(r => r.Start < to && r.End >= from && r.Due > now))
        {
            var job = played[forecast.Jobs[run.Job]];
            bars.Add(
                Bar(
                    charter,
                    job.Name,
                    job.Machine,
                    run.Due,
                    run.Start,
                    run.End,
                    false,
                    run.Outcome switch
                    {
                        PlayedOutcome.Overlaps => Outcome.NotNeeded,
                        PlayedOutcome.HeldBack => Outcome.HeldBack,
                        _ => null,
                    },
                    run.Start > run.Due ? $"waits {(run.Start - run.Due).TotalMinutes:0} min for its turn" : null,
                    null
                )
            );
        }
        foreach (var job in charter.Placed.All.Where(j => j.After is null))
        {
            if (
                charter.DueTimesOf(job) is not { } times
                || (times.Quiet.Length == 0 && times.WhenClosed is null && times.Spread == Duration.Zero)
            )
                continue;
            var whys = times.All(Instant.Max(now, from), to).Where(d => d.Why is not null).ToList();
            foreach (var dropped in whys.Where(d => d.Dropped))
                bars.Add(
                    Bar(charter, job.Name, job.Machine, dropped.Named, dropped.At, dropped.At, false, null, dropped.Why, null) with
                    {
                        Dropped = true,
                    }
                );
            var moved = whys.Where(d => !d.Dropped).ToDictionary(d => d.At.ToDateTimeOffset(), d => d.Why);
            for (var i = 0; i < bars.Count; i++)
                if (!bars[i].Past && bars[i].Job == job.Name && bars[i].Why is null && moved.TryGetValue(bars[i].Due, out var why))
                    bars[i] = bars[i] with { Why = why };
        }
        return bars;
    }

    private static TimetableBar Bar(
        Charter charter,
        string job,
        string machine,
        Instant due,
        Instant start,
        Instant end,
        bool past,
        Outcome? outcome,
        string? why,
        long? runId
    )
    {
        var declared = charter.Placed.Find(job, machine);
        return new TimetableBar(
            job,
            machine,
            declared?.Into ?? [],
            declared?.Watched == true,
            due.ToDateTimeOffset(),
            start.ToDateTimeOffset(),
            end.ToDateTimeOffset(),
            past,
            outcome,
            false,
            false,
            why,
            runId
        );
    }

    private static IEnumerable<QuietSpan> Quiet(Charter charter, Instant from, Instant to)
    {
        foreach (var job in charter.Placed.All.Where(j => j.QuietHours.Length > 0 || j.WhenClosed is not null))
        {
            if (charter.DueTimesOf(job) is not { } times)
                continue;
            // Windows are found by walking: at their ends, and else by the quarter of an hour.
            for (var at = from; at < to; )
            {
                if (times.WindowAround(at) is { } window)
                {
                    yield return new QuietSpan(
                        job.Name,
                        Instant.Max(window.Start, from).ToDateTimeOffset(),
                        Instant.Min(window.End, to).ToDateTimeOffset(),
                        window.Name
                    );
                    at = window.End;
                }
                else
                    at = NextQuarter(at);
            }
        }
    }

    private static Instant NextQuarter(Instant at) => Instant.FromUnixTimeSeconds((at.ToUnixTimeSeconds() / 900 + 1) * 900);

    private IEnumerable<CeilingAnswer> Ceilings(Charter charter)
    {
        yield return new CeilingAnswer("all", charter.RunsAtOnce ?? settings.Value.RunsAtOnce);
        foreach (var machine in charter.Machines.Values)
            if (machine.RunsAtOnce is { } most)
                yield return new CeilingAnswer($"machine {machine.Name}", most);
        foreach (var store in charter.Stores.Values)
            if (store.RunsAtOnce is { } most)
                yield return new CeilingAnswer($"store {store.Name}", most);
    }
}
