using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Service.Basics;
using IronKeep.Service.Events;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Timetable;

/// <summary>Pausing a job for a time, with a reason: its planned runs are held back and say so; nothing else changes.</summary>
public sealed class Pauses(IDbContextFactory<KeepContext> catalogue, TimeProvider clock, EventHub events)
{
    /// <summary>The longest pause; what is to stop for good is taken out of the charter.</summary>
    public static readonly Duration Longest = Duration.FromDays(366);

    public static bool IsPaused(JobOnMachine watch, Instant now) => watch.PausedUntil > now;

    /// <summary>Pauses a job of a machine from now; replaces a pause that is there.</summary>
    public Task PauseAsync(PlacedJob job, string machine, string by, string reason, Instant until, CancellationToken cancel) =>
        SetAsync(
            job.Name,
            machine,
            w => (w.PausedBy, w.PausedReason, w.PausedAt, w.PausedUntil) = (by, reason, clock.Now(), until),
            cancel
        );

    public Task ResumeAsync(PlacedJob job, string machine, CancellationToken cancel) =>
        SetAsync(job.Name, machine, w => (w.PausedBy, w.PausedReason, w.PausedAt, w.PausedUntil) = (null, null, null, null), cancel);

    private async Task SetAsync(string job, string machine, Action<JobOnMachine> change, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (await db.JobsOnMachines.FindAsync([job, machine], cancel) is not { } watch)
            return;
        change(watch);
        await db.SaveChangesAsync(cancel);
        events.Publish(Topic.Charter);
    }
}
