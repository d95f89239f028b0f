using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>
/// What watched jobs say of themselves: started, ended and how. Something else carries them out; what is not heard of in time is
/// missed. Source: docs/semantics.md, section 2 (Planned runs, lateness, catch-up).
/// </summary>
public sealed class CheckIns(CharterInForce inForce, IDbContextFactory<KeepContext> catalogue, AlertBook alerts, FactSignal signal, TimeProvider clock, IOptions<ServiceSettings> settings) : IFollower
{
    private const string Began = "started ";

    public string Name => "silent-check-ins";
    public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.PlannedRunSilent];

    /// <summary>Raises the alert of a job that said it started and no more.</summary>
    public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        foreach (var fact in facts)
            if (await db.PlannedRuns.AsNoTracking().FirstOrDefaultAsync(p => p.Id == fact.PlannedRunId && p.Outcome == Outcome.TimedOut, cancel) is { } planned)
                await alerts.RaiseAsync(db, new Matter(Subject.OfJob(planned.Job, planned.Machine), AlertClass.Failed, $"watched job {planned.Job}: {planned.Reason}", $"Look on {planned.Machine} what became of it."), cancel);
    }

    /// <summary>How long a job that said it started, and states no run limit, may go on before it counts as lost.</summary>
    private static readonly Duration UsualLimit = Duration.FromHours(24);

    /// <summary>Ends a planned run that nobody was heard of in time.</summary>
    public static void Judge(PlannedRun planned, JobDefinition job, Instant now)
    {
        var started = planned.Stand == PlannedStand.Started;
        if (!started && now > planned.Due + job.StartLimit.ToDuration())
        {
            planned.Outcome = Outcome.Missed;
            planned.Reason = $"nothing was heard of it within {job.StartLimit}";
        }
        else if (started && now > planned.Due + (job.RunLimit?.ToDuration() ?? UsualLimit))
        {
            planned.Outcome = Outcome.TimedOut;
            planned.Reason = $"it {planned.Reason}, and nothing was heard since";
        }
    }

    /// <summary>Takes a check-in for the planned run that it belongs to; null when none is near, which is an unplanned run.</summary>
    public async Task<PlannedRun?> TakeAsync(JobDefinition job, bool ended, int exitCode, string? note, CancellationToken cancel)
    {
        var now = clock.Now();
        var machine = Charter.MachineOf(job, settings.Value.Machine);
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = await db.BeginChangeAsync(cancel);
        // The one it is about: the last that became due, if it is open still or was called missed too early. A little early is meant for the next.
        var planned = await db.PlannedRuns.Where(p => p.Job == job.Name && p.Machine == machine && p.Due <= now).OrderByDescending(p => p.Due).FirstOrDefaultAsync(cancel);
        if (planned is null || planned.Outcome is not (null or Outcome.Missed or Outcome.TimedOut)) return null;
        var late = planned.Outcome is not null;
        if (!ended)
        {
            planned.Outcome = null;
            planned.Stand = PlannedStand.Started;
            planned.Reason = Began + now.Local(inForce.Charter.ZoneOf(job));
        }
        else
        {
            planned.Outcome = exitCode == 0 ? Outcome.Ok : Outcome.Failed;
            planned.Reason = $"reported {(late ? "late, " : "")}{now.Local(inForce.Charter.ZoneOf(job))}: {(exitCode == 0 ? "ended well" : $"ended with exit code {exitCode}")}{(string.IsNullOrWhiteSpace(note) ? "" : $"; {note.Trim()}")}";
        }
        db.SayPlanned(planned, now);
        await db.SaveChangesAsync(cancel);
        if (ended) await TellAsync(db, job, machine, planned, cancel);
        await change.CommitAsync(cancel);
        signal.Wake();
        return planned;
    }

    private async Task TellAsync(KeepContext db, JobDefinition job, string machine, PlannedRun planned, CancellationToken cancel)
    {
        var subject = Subject.OfJob(job.Name, machine);
        if (planned.Outcome == Outcome.Ok) await alerts.CloseAsync(db, subject, [AlertClass.Missed, AlertClass.Failed], cancel);
        else await alerts.RaiseAsync(db, new Matter(subject, AlertClass.Failed, $"watched job {job.Name}: {planned.Reason}", $"Look into its log on {machine}{(job.Note is null ? "" : $"; it runs: {job.Note}")}."), cancel);
    }
}
