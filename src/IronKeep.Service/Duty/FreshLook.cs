using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Hearing;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Duty;

/// <summary>
/// Looks for copies that have grown stale, and closes what was said of a job once a good copy is there. Source: docs/semantics.md, section
/// 6 (Watching).
/// </summary>
public sealed class FreshLook(CharterInForce inForce, AlertBook alerts, TimeProvider clock) : ILook, IFollower
{
    public Duration Every { get; } = Duration.FromMinutes(1);
    public string Name => "freshness";
    public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.CopyMade];

    public async Task LookAsync(KeepContext db, CancellationToken cancel)
    {
        var charter = inForce.Charter;
        var now = clock.Now();
        var open = await AlertBook.OpenAsync(db, AlertClass.Stale, cancel);
        PlacedJob[] promising = [.. charter.Placed.All.Where(j => j.FreshWithin is not null)];
        var standings = await Freshness.OfAsync(db, promising, now, cancel);
        var since = await db.JobsOnMachines.AsNoTracking().ToDictionaryAsync(w => (w.Job, w.Machine), w => w.Since, cancel);
        foreach (var job in promising)
        {
            var (machine, standing) = (job.Machine, standings[(job.Name, job.Machine)]);
            var behind = Freshness.Behind(job, standing, now);
            // A job that has just been declared has its promise's time to make its first copy.
            if (
                behind is { Newest: null }
                && since.TryGetValue((job.Name, machine), out var begun)
                && now - begun <= job.FreshWithin!.Value.ToDuration()
            )
                continue;
            var subject = Subject.OfJob(job.Name, machine);
            if (behind is null == !open.Contains(subject))
                continue;
            if (behind is null)
                await alerts.CloseAsync(subject, [AlertClass.Stale], cancel);
            else
                await alerts.RaiseAsync(
                    new Matter(
                        subject,
                        AlertClass.Stale,
                        $"the newest good copy of {job.Name} in store {behind.Store} "
                            + $"{(behind.Newest is { } newest ? $"was taken {newest.Taken.Local(charter.Zone)}" : "does not exist")}; "
                            + $"{job.FreshWithin} were promised. Nothing of this job expires meanwhile",
                        "See why its runs fail or do not happen, then run the job; the first good copy closes this."
                    )
                    {
                        Once = true,
                    },
                    cancel
                );
        }
    }

    public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        var now = clock.Now();
        foreach (var (name, machine) in facts.Select(f => (f.Job!, f.Machine!)).Distinct())
        {
            if (inForce.Charter.Placed.Find(name, machine) is not { } job || job.FreshWithin is null)
                continue;
            var standing = (await Freshness.OfAsync(db, [job], now, cancel))[(name, machine)];
            if (!Freshness.IsStale(job, standing, now))
                await alerts.CloseAsync(db, Subject.OfJob(name, machine), [AlertClass.Stale], cancel);
        }
    }
}
