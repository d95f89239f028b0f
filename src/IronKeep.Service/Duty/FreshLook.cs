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
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Duty;

/// <summary>
/// Looks for copies that have grown stale, and closes what was said of a job once a good copy is there. Source: docs/semantics.md, section
/// 6 (Watching).
/// </summary>
public sealed class FreshLook(CharterInForce inForce, AlertBook alerts, TimeProvider clock, IOptions<ServiceSettings> settings)
    : ILook,
        IFollower
{
    public Duration Every { get; } = Duration.FromMinutes(1);
    public string Name => "freshness";
    public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.CopyMade];

    public async Task LookAsync(KeepContext db, CancellationToken cancel)
    {
        var charter = inForce.Charter;
        var now = clock.Now();
        var open = await AlertBook.OpenAsync(db, AlertClass.Stale, cancel);
        foreach (var (job, machine, standing) in await StandingsAsync(db, charter, now, cancel))
        {
            var behind = Freshness.Behind(job, standing, now);
            // A job that has just been declared has its promise's time to make its first copy.
            if (
                behind is { Newest: null }
                && await db.JobsOnMachines.AsNoTracking().FirstOrDefaultAsync(w => w.Job == job.Name && w.Machine == machine, cancel)
                    is { } watch
                && now - watch.Since <= job.FreshWithin!.Value.ToDuration()
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
            if (!inForce.Charter.Jobs.TryGetValue(name, out var job) || job.FreshWithin is null)
                continue;
            var standing = (await Freshness.OfAsync(db, [job], machine, now, cancel))[name];
            if (!Freshness.IsStale(job, standing, now))
                await alerts.CloseAsync(db, Subject.OfJob(name, machine), [AlertClass.Stale], cancel);
        }
    }

    private async Task<List<(JobDefinition Job, string Machine, Standing Standing)>> StandingsAsync(
        KeepContext db,
        Charter charter,
        Instant now,
        CancellationToken cancel
    )
    {
        var all = new List<(JobDefinition, string, Standing)>();
        foreach (
            var group in charter
                .Jobs.Values.Where(j => j.FreshWithin is not null)
                .GroupBy(j => Charter.MachineOf(j, settings.Value.Machine))
        )
        {
            var standings = await Freshness.OfAsync(db, [.. group], group.Key, now, cancel);
            all.AddRange(group.Select(j => (j, group.Key, standings[j.Name])));
        }
        return all;
    }
}
