using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Runs;

/// <summary>Opens and closes what there is to say of runs that have ended, as their kind says.</summary>
public sealed class RunAlerts(RunWorks works, AlertBook alerts, CharterInForce inForce) : IFollower
{
    public string Name => "run-alerts";
    public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.RunEnded];

    public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        var runs = await Ended.RunsOfAsync(
            db,
            facts,
            r => r.Outcome != Outcome.Cancelled && r.Outcome != Outcome.NotNeeded && r.Outcome != Outcome.HeldBack,
            cancel
        );
        var all = await db.Alerts.AsNoTracking().Where(a => a.State != AlertState.Closed).ToListAsync(cancel);
        // A job stands for itself and for its part in what it shares with others.
        var open = all.Select(a => (a.Subject, a.Class))
            .Concat(
                all.Where(a => a.SubjectKind == SubjectKind.Machine)
                    .SelectMany(a => SharedCauses.JobsOf(a).Select(j => (Subject.OfJob(j, a.SubjectMachine!), a.Class)))
            )
            .ToHashSet();
        foreach (var fact in facts)
        {
            if (runs.GetValueOrDefault(fact.RunId ?? 0) is not { Outcome: not null } run || await RunEnds.IsRetriedAsync(db, run, cancel))
                continue;
            foreach (var step in works.Of(run).AlertsOf(run, inForce.Charter))
            {
                if (Array.Exists(step.Closes, c => open.Contains((step.Subject, c))))
                    await alerts.CloseAsync(db, step.Subject, step.Closes, cancel);
                foreach (var closed in step.Closes)
                    open.Remove((step.Subject, closed));
                if (step.Raises is not { } matter)
                    continue;
                await alerts.RaiseAsync(db, matter, cancel);
                open.Add((matter.Subject, matter.Class));
                open.Add((step.Subject, matter.Class));
            }
        }
    }

    /// <summary>What most kinds do: a good end closes, a bad one raises that it failed.</summary>
    public static IEnumerable<AlertStep> Usual(Run run, Subject subject, Charter charter, params AlertClass[] closes) =>
        run.Outcome is Outcome.Ok or Outcome.Warned
            ? [new AlertStep(subject, closes)]
            : [new AlertStep(subject, [], Failed(run, subject, charter))];

    public static Matter Failed(Run run, Subject subject, Charter charter, AlertClass kind = AlertClass.Failed, string? more = null) =>
        new(
            subject,
            run.Outcome == Outcome.TimedOut ? AlertClass.Overdue : kind,
            run.Sentence + more,
            charter.RemedyOf(run.Failure ?? FailureClass.Unknown)
        )
        {
            RunId = run.Id,
            CountsOnce = run.Outcome == Outcome.TimedOut,
        };
}
