using IronKeep.Catalogue;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Catalogue;

/// <summary>
/// The name of the service's machine, which the catalogue keeps: history, freshness and pruning go by it, so a host that is renamed must
/// not become another machine by accident. Names that it had before are known, because stores go on saying them.
/// </summary>
public static class ServiceNames
{
    private const string NowKey = "machine",
        BeforeKey = "machine-before";

    /// <summary>
    /// The name to go by: the catalogue's. Where <paramref name="isGiven"/> says that the settings name another on purpose, the start is
    /// refused.
    /// </summary>
    public static async Task<string> KeepAsync(KeepContext db, string named, bool isGiven, CancellationToken cancel)
    {
        await using var change = await db.BeginChangeAsync(cancel);
        var kept = await db.KeptValues.FindAsync([NowKey], cancel);
        if (kept is null)
        {
            // A catalogue of before: its jobs say what the machine is called.
            var known = await db.JobsOnMachines.Select(w => w.Machine).Distinct().ToListAsync(cancel);
            if (known.Count == 1 && !isGiven)
                named = known[0];
            db.KeptValues.Add(new KeptValue { Key = NowKey, Value = named });
            await db.SaveChangesAsync(cancel);
            await change.CommitAsync(cancel);
            return named;
        }
        if (kept.Value == named || !isGiven)
            return kept.Value;
        throw new StartRefusedException(
            $"the settings call this machine '{named}', but the catalogue knows it as '{kept.Value}', and history, freshness and pruning "
                + $"go by that name. Start with --IronKeep:Machine={kept.Value}, then rename it on purpose with 'ironkeep service "
                + $"rename-machine {named}'"
        );
    }

    /// <summary>
    /// Renames the machine in all that the catalogue knows, in one transaction; where the charter names it, this has its text with the new
    /// name. The number of the charter's revision then, or null where it stays.
    /// </summary>
    public static async Task<long?> RenameAsync(
        KeepContext db,
        string from,
        string to,
        CharterRevision? charter,
        NodaTime.Instant now,
        CancellationToken cancel
    )
    {
        await using var change = await db.BeginChangeAsync(cancel);
        if (charter is not null)
        {
            db.CharterRevisions.Add(charter);
            db.Facts.Add(new Fact { At = now, Kind = FactKind.CharterApplied });
        }
        await db.JobsOnMachines.Where(w => w.Machine == from).ExecuteUpdateAsync(s => s.SetProperty(w => w.Machine, to), cancel);
        await db.PlannedRuns.Where(p => p.Machine == from).ExecuteUpdateAsync(s => s.SetProperty(p => p.Machine, to), cancel);
        await db.Runs.Where(r => r.Machine == from).ExecuteUpdateAsync(s => s.SetProperty(r => r.Machine, to), cancel);
        await db.Copies.Where(c => c.Machine == from).ExecuteUpdateAsync(s => s.SetProperty(c => c.Machine, to), cancel);
        // A plan that was shown speaks of the old name: it is made anew.
        await db.PrunePlans.Where(p => p.Machine == from && p.AppliedAt == null).ExecuteDeleteAsync(cancel);
        await db.PrunePlans.Where(p => p.Machine == from).ExecuteUpdateAsync(s => s.SetProperty(p => p.Machine, to), cancel);
        await db.Alerts.Where(a => a.SubjectMachine == from).ExecuteUpdateAsync(s => s.SetProperty(a => a.SubjectMachine, to), cancel);
        await db.MachineCoverages.Where(c => c.Machine == from).ExecuteUpdateAsync(s => s.SetProperty(c => c.Machine, to), cancel);
        await db.HangingRuns.Where(h => h.Machine == from).ExecuteUpdateAsync(s => s.SetProperty(h => h.Machine, to), cancel);
        await db.Facts.Where(f => f.Machine == from).ExecuteUpdateAsync(s => s.SetProperty(f => f.Machine, to), cancel);
        db.Facts.Add(
            new Fact
            {
                At = now,
                Kind = FactKind.MachineRenamed,
                Machine = to,
                Due = NodaTime.Instant.MinValue,
            }
        );
        var before = await db.KeptValues.FindAsync([BeforeKey], cancel);
        if (before is null)
            db.KeptValues.Add(before = new KeptValue { Key = BeforeKey, Value = "" });
        before.Value = string.Join(
            ' ',
            before.Value.Split(' ', StringSplitOptions.RemoveEmptyEntries).Append(from).Distinct().Where(n => n != to)
        );
        (await db.KeptValues.FindAsync([NowKey], cancel))!.Value = to;
        await db.SaveChangesAsync(cancel);
        await change.CommitAsync(cancel);
        return charter?.Id;
    }

    /// <summary>What a machine is called now that a store may know under a name of before.</summary>
    public static async Task<string> NowOfAsync(KeepContext db, string machine, string own, CancellationToken cancel) =>
        machine != own
        && await db.KeptValues.AsNoTracking().FirstOrDefaultAsync(n => n.Key == BeforeKey, cancel) is { } before
        && before.Value.Split(' ').Contains(machine)
            ? own
            : machine;
}
