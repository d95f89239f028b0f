using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Jobs;

/// <summary>Why a job was or was not due around an instant: what its schedule names, what its windows do, and what became of it.</summary>
public static class JobWhen
{
    private const int Shown = 5;
    private static readonly Duration Reach = Duration.FromDays(400);

    public static async Task<Results<Ok<JobWhenAnswer>, ProblemHttpResult>> AnswerAsync(
        string name,
        string? on,
        DateTimeOffset? asOf,
        CharterInForce inForce,
        KeepContext db,
        TimeProvider clock,
        CancellationToken cancel
    )
    {
        var charter = inForce.Charter;
        if (WhichJob.Of(charter, name, on, out var problem) is not { } job)
            return problem!;
        var now = clock.Now();
        var at = asOf is { } given ? Instant.FromDateTimeOffset(given) : now;
        if (at < now - Duration.FromDays(3660) || at > now + Duration.FromDays(3660))
            return Problems.Invalid($"asOf {asOf:u} is more than ten years away");
        var machine = job.Machine;
        var times = charter.DueTimesOf(job);
        if (times is null)
            return TypedResults.Ok(
                new JobWhenAnswer(
                    name,
                    machine,
                    charter.ZoneOf(job).Id,
                    at.ToDateTimeOffset(),
                    "by hand only",
                    ["it has no schedule, so it is never due by itself"],
                    [],
                    []
                )
            );
        var before = times.All(at - Reach, at).TakeLast(Shown).ToList();
        var after = times.All(at, at + Reach).Take(Shown).ToList();
        var dues = before.Concat(after).Where(d => !d.Dropped).Select(d => d.At).ToList();
        var planned = await db
            .PlannedRuns.AsNoTracking()
            .Where(p => p.Job == name && p.Machine == machine && dues.Contains(p.Due))
            .ToDictionaryAsync(p => p.Due, cancel);
        var watch = await db.JobsOnMachines.AsNoTracking().FirstOrDefaultAsync(w => w.Job == name && w.Machine == machine, cancel);
        return TypedResults.Ok(
            new JobWhenAnswer(
                name,
                machine,
                times.Zone.Id,
                at.ToDateTimeOffset(),
                times.Schedule.Words,
                [.. Facts(charter, job, times, at, watch)],
                [.. before.Select(ToAnswer)],
                [.. after.Select(ToAnswer)]
            )
        );

        DueWhy ToAnswer(Due due)
        {
            var run = due.Dropped ? null : planned.GetValueOrDefault(due.At);
            // What was due before the job was watched was never planned.
            var reason = run?.Reason
                ?? (
                    run is null && !due.Dropped && due.At <= now && watch is not null && due.At <= watch.Since
                        ? "the job was not watched yet"
                        : null
                );
            return new DueWhy(
                due.At.ToDateTimeOffset(),
                due.At.Rfc3339(times.Zone),
                due.Named.ToDateTimeOffset(),
                due.Dropped,
                due.Why,
                run?.Outcome,
                reason,
                run?.RunId
            );
        }
    }

    private static IEnumerable<string> Facts(Charter charter, PlacedJob job, DueTimes times, Instant at, JobOnMachine? watch)
    {
        if (job.After is { } head)
            yield return $"it follows {head}, and is due when that is";
        if (times.WindowAround(at) is { } window)
            yield return $"at this instant {window.Name} "
                + $"{(window.Rule == WindowRule.Shift ? $"shift a run to {window.End.Local(times.Zone)}" : "drop a run")}";
        if (job.Calendar is { } calendar && times.Closed!.IsClosed(at.InZone(times.Zone).Date))
            yield return $"calendar {calendar} has this date as a closed "
                + $"day{(job.WhenClosed is null ? ", which matters to working days only" : "")}";
        if (times.Spread > Duration.Zero)
            yield return $"its share of the spread of {charter.HeadOf(job).Spread} is {times.Spread.TotalMinutes:0} minutes";
        if (watch is { PausedUntil: { } until } && until > at)
            yield return $"paused by {watch.PausedBy} until {until.Local(times.Zone)}: {watch.PausedReason}";
        foreach (var remark in times.Schedule.Remarks)
            yield return remark;
    }
}
