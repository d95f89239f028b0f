using IronKeep.Catalogue;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using NodaTime;

namespace IronKeep.Service.Facts;

/// <summary>Says facts: always in the change that they speak of.</summary>
public static class Saying
{
    /// <summary>What may be said of a run that has ended.</summary>
    public static void SayEnded(this KeepContext db, Run run, Instant now) =>
        db.Facts.Add(
            new Fact
            {
                At = now,
                Kind = FactKind.RunEnded,
                RunId = run.Id,
                Job = run.Job,
                Machine = run.Machine,
                Store = run.Store,
                PlannedRunId = run.PlannedRunId,
                Due = run.Due,
            }
        );

    /// <summary>A planned run has an outcome now, or another than it had, or none any more.</summary>
    public static void SayPlanned(this KeepContext db, PlannedRun planned, Instant now) =>
        db.Facts.Add(
            new Fact
            {
                At = now,
                Kind = FactKind.PlannedRunEnded,
                PlannedRunId = planned.Id,
                Job = planned.Job,
                Machine = planned.Machine,
                Due = planned.Due,
            }
        );

    public static void Say(this KeepContext db, Fact fact) => db.Facts.Add(fact);
}

/// <summary>Wakes the carrier when something was said.</summary>
public sealed class FactSignal : WakeSignal;
