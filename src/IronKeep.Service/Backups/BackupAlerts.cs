using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Runs;
using IronKeep.Service.Timetable;

namespace IronKeep.Service.Backups;

/// <summary>What follows for the alerts from the end of a backup run.</summary>
internal static class BackupAlerts
{
    public static IEnumerable<AlertStep> Of(Run run, Charter charter)
    {
        var subject = Subject.OfJob(run.Job!, run.Machine);
        if (run.Surge is { } surge)
            yield return new AlertStep(subject, [], Surged(run, subject, surge));
        if (run.Outcome is Outcome.Ok or Outcome.Warned)
        {
            yield return new AlertStep(subject, [AlertClass.Failed, AlertClass.Missed, AlertClass.Overdue, AlertClass.Suspect]);
            yield return new AlertStep(Subject.OfMachine(run.Machine), [AlertClass.Silent]);
            foreach (var store in charter.Placed.Find(run.Job!, run.Machine)?.Into ?? [])
                yield return new AlertStep(Subject.OfStore(store), [AlertClass.Failed]);
            yield break;
        }
        if (run.Outcome == Outcome.Suspect)
        {
            yield return new AlertStep(
                subject,
                [AlertClass.Failed, AlertClass.Missed, AlertClass.Overdue],
                Doubt(run, subject, run.Brief ?? run.Sentence!)
            );
            yield break;
        }
        // What one store got can be in doubt although another failed.
        if (run is { Outcome: Outcome.Failed, Brief: { } doubt })
            yield return new AlertStep(subject, [], Doubt(run, subject, doubt));
        // A store that is down, full or does not let us in is one matter, however many jobs it stops.
        yield return run is { FailedStore: { } store1, Failure: { } failure } && IsOfTheStore(failure)
            ? new AlertStep(
                subject,
                [],
                RunAlerts.Failed(run, Subject.OfStore(store1), charter, more: Holds(run, charter)) with
                {
                    Class = AlertClass.Failed,
                    Affected = run.Job,
                }
            )
            : new AlertStep(subject, [], RunAlerts.Failed(run, subject, charter, more: Holds(run, charter)));
    }

    private static bool IsOfTheStore(FailureClass failure) =>
        failure is FailureClass.StoreUnreachable or FailureClass.StoreFull or FailureClass.AccessRefused;

    private static Matter Surged(Run run, Subject subject, string surge) =>
        new(
            subject,
            AlertClass.Surge,
            $"run {run.Id} changed more at once than the job does: {surge}. Nothing of this job expires meanwhile",
            "Look at what changed (What changed, on the job's page). If it is right, confirm it with "
                + $"'ironkeep run confirm {run.Id}' or the button at the run; if not, take the machine off the network, and "
                + "restore from the copy before."
        )
        {
            RunId = run.Id,
        };

    private static Matter Doubt(Run run, Subject subject, string doubt) =>
        new(
            subject,
            AlertClass.Suspect,
            doubt,
            $"Look at what the job took. If it is right, confirm it with 'ironkeep run confirm {run.Id}' or the button at the run. "
                + $"Until then the copy before it does not expire."
        )
        {
            RunId = run.Id,
        };

    /// <summary>The jobs that a failed run holds back, because they follow its job.</summary>
    private static string Holds(Run run, Charter charter)
    {
        var held = new List<string>();
        var heads = new HashSet<string> { run.Job! };
        while (
            charter.Placed.At(run.Machine).FirstOrDefault(j => j.After is { } head && heads.Contains(head) && !heads.Contains(j.Name))
                is { } next
        )
        {
            heads.Add(next.Name);
            held.Add(next.Name);
        }
        return held.Count == 0
            ? ""
            : $"; {(held.Count == 1 ? $"job {held[0]}, which follows it, is" : $"jobs {Counted.Named(held)}, which follow it, are")} "
                + $"held back";
    }
}
