using System.Collections.Immutable;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Prunes;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Clocks;
using IronKeep.Service.Copies;
using IronKeep.Service.Facts;
using IronKeep.Service.Hearing;
using IronKeep.Service.Runs;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Prunes;

/// <summary>Makes prune plans, keeps them by fingerprint, finds out whether one still holds and whether the brake stops it.</summary>
public sealed class PruneDesk(
    IDbContextFactory<KeepContext> catalogue,
    CharterInForce inForce,
    ClockWatch clockWatch,
    AlertBook alerts,
    FactSignal signal,
    TimeProvider clock
)
{
    /// <summary>
    /// The plan for a job in one of its stores. That of now is stored under its fingerprint; one as of another instant is only looked at.
    /// </summary>
    public async Task<PrunePlanAnswer> PlanAsync(PlacedJob job, string machine, string store, Instant? asOf, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        return await PlanAsync(db, job, machine, store, asOf, cancel);
    }

    private async Task<PrunePlanAnswer> PlanAsync(
        KeepContext db,
        PlacedJob job,
        string machine,
        string store,
        Instant? asOf,
        CancellationToken cancel
    )
    {
        var plan = await MakeAsync(db, job, machine, store, inForce.Charter.Policies[job.Policy], asOf, cancel);
        return asOf is null ? await KeepAsync(db, plan, cancel) : await AnswerAsync(db, plan, null, cancel);
    }

    private async Task<PrunePlanAnswer> KeepAsync(KeepContext db, PrunePlan plan, CancellationToken cancel)
    {
        var fingerprint = plan.Fingerprint();
        var row = await db.PrunePlans.FindAsync([fingerprint], cancel);
        if (row is null)
        {
            row = new PrunePlanRow
            {
                Fingerprint = fingerprint,
                Job = plan.Job,
                Machine = plan.Machine,
                Store = plan.Store,
                AsOf = plan.AsOf,
                Body = "",
            };
            db.PrunePlans.Add(row);
        }
        row.AsOf = plan.AsOf;
        row.Body = JsonSerializer.Serialize(StoredPlan.Of(plan));
        await db.SaveChangesAsync(cancel);
        return await AnswerAsync(db, plan, row, cancel);
    }

    public async Task<PrunePlanAnswer?> FindAsync(string fingerprint, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        return await db.PrunePlans.FindAsync([fingerprint], cancel) is { } row ? await AnswerAsync(db, Read(row), row, cancel) : null;
    }

    /// <summary>The plan as it would be under a policy that is not in force; nothing is stored.</summary>
    public async Task<PrunePlan> DraftAsync(PlacedJob job, string store, PolicyDefinition policy, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        return await MakeAsync(db, job, job.Machine, store, policy, null, cancel);
    }

    /// <summary>
    /// Whether the stored plan may be carried out now: the plan with null, or what stops it. Copies that an interrupted carrying-out
    /// has moved already are no change.
    /// </summary>
    public async Task<(PrunePlan? Plan, string? Problem)> ReviewAsync(string fingerprint, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (await db.PrunePlans.FindAsync([fingerprint], cancel) is not { } row)
            return (null, $"there is no prune plan {fingerprint}");
        if (row.AppliedAt is { } applied)
            return (null, $"plan {fingerprint} was applied already, at {applied}");
        var plan = Read(row);
        if (inForce.Charter.Placed.Find(row.Job, row.Machine) is not { } job || !job.Into.Contains(row.Store))
            return (null, $"plan {fingerprint} no longer holds: the charter has no job {row.Job} into store {row.Store} any more");
        var today = await MakeAsync(db, job, row.Machine, row.Store, inForce.Charter.Policies[job.Policy], null, cancel);
        var going = plan.Going.Select(c => c.Copy.Id).ToList();
        var done = (
            await db
                .Copies.Where(c => c.Store == row.Store && going.Contains(c.Id) && c.BinnedAt != null)
                .Select(c => c.Id)
                .ToListAsync(cancel)
        ).ToHashSet();
        if (plan.DriftAgainst(today, done) is { } drift)
            return (null, $"plan {fingerprint} no longer holds: {drift}; make a new plan and look at it");
        // What is done already has passed the brake.
        if (row.ConfirmedBy is null && done.Count == 0 && await BrakeAsync(db, plan, cancel) is { Length: > 0 } brake)
            return (
                null,
                $"the brake holds plan {fingerprint}: {string.Join("; ", brake)}. Look at what goes; if it is right, confirm it with a "
                    + $"reason"
            );
        return (plan, null);
    }

    /// <summary>A person lets the brake go for one plan, and says why.</summary>
    public async Task ConfirmAsync(string fingerprint, string by, string reason, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await db
            .PrunePlans.Where(p => p.Fingerprint == fingerprint)
            .ExecuteUpdateAsync(s => s.SetProperty(p => p.ConfirmedBy, by).SetProperty(p => p.ConfirmedReason, reason), cancel);
    }

    public async Task MarkAppliedAsync(PrunePlan plan, string fingerprint, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = await db.BeginChangeAsync(cancel);
        var now = clock.Now();
        await db.PrunePlans.Where(p => p.Fingerprint == fingerprint).ExecuteUpdateAsync(s => s.SetProperty(p => p.AppliedAt, now), cancel);
        // Whoever let this plan pass has seen what the catalogue learned from the store.
        await db
            .Copies.Where(c => c.Job == plan.Job && c.Machine == plan.Machine && c.Store == plan.Store && c.RunId == null)
            .ExecuteUpdateAsync(s => s.SetProperty(c => c.RunId, 0), cancel);
        await change.CommitAsync(cancel);
    }

    /// <summary>
    /// The plan of now for a prune that nobody looks at, and how many copies go; without a fingerprint where the brake holds it, which is
    /// then an alert.
    /// </summary>
    public async Task<(string? Fingerprint, int Going)> AutomaticAsync(
        PlacedJob job,
        string machine,
        string store,
        CancellationToken cancel
    )
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await using var change = await db.BeginChangeAsync(cancel);
        var found = await AutomaticAsync(db, job, machine, store, await LookAsync(db, cancel), cancel);
        await change.CommitAsync(cancel);
        signal.Wake();
        return found;
    }

    /// <summary>
    /// What is the same for all plans that are made in one change: the doubt about the clock, what the brake holds already, and the jobs of
    /// which nothing expires, with why.
    /// </summary>
    public sealed record Look(string? Doubt, HashSet<Subject> Braked, Dictionary<(string Job, string Machine), string> Frozen);

    public async Task<Look> LookAsync(KeepContext db, CancellationToken cancel)
    {
        var frozen = await ExpiryHolds.OpenAsync(db, inForce.Charter, clock.Now(), cancel);
        foreach (var (at, why) in await RunHistory.SurgesAsync(db, cancel))
            frozen[at] = why;
        return new(await clockWatch.DoubtAsync(db, cancel), await AlertBook.OpenAsync(db, AlertClass.BrakedPrune, cancel), frozen);
    }

    /// <summary>The same in the caller's change. A plan by which nothing goes is not kept.</summary>
    public async Task<(string? Fingerprint, int Going)> AutomaticAsync(
        KeepContext db,
        PlacedJob job,
        string machine,
        string store,
        Look look,
        CancellationToken cancel
    )
    {
        var made = await MakeAsync(db, job, machine, store, inForce.Charter.Policies[job.Policy], null, look, cancel);
        var subject = Subject.OfPrune(job.Name, machine, store);
        if (!made.Going.Any())
        {
            await LetGoAsync();
            return (null, 0);
        }
        var plan = await KeepAsync(db, made, cancel);
        if (plan.Brake.Count > 0)
        {
            await alerts.RaiseAsync(
                db,
                new Matter(
                    subject,
                    AlertClass.BrakedPrune,
                    $"the brake holds the prune of {job.Name} in store {store}: {string.Join("; ", plan.Brake)}",
                    $"Look at the plan: 'ironkeep prune plan {job.Name}'. If it is right, confirm it with a reason; if not, mend the "
                        + $"policy. Nothing goes meanwhile."
                ),
                cancel
            );
            return (null, plan.Counts[Kebab.Of(Verdict.Expire)]);
        }
        await LetGoAsync();
        return (plan.Fingerprint, plan.Counts[Kebab.Of(Verdict.Expire)]);

        Task LetGoAsync() =>
            look.Braked.Contains(subject) ? alerts.CloseAsync(db, subject, [AlertClass.BrakedPrune], cancel) : Task.CompletedTask;
    }

    private async Task<PrunePlan> MakeAsync(
        KeepContext db,
        PlacedJob job,
        string machine,
        string store,
        PolicyDefinition policy,
        Instant? asOf,
        CancellationToken cancel
    ) => await MakeAsync(db, job, machine, store, policy, asOf, await LookAsync(db, cancel), cancel);

    private async Task<PrunePlan> MakeAsync(
        KeepContext db,
        PlacedJob job,
        string machine,
        string store,
        PolicyDefinition policy,
        Instant? asOf,
        Look look,
        CancellationToken cancel
    )
    {
        var charter = inForce.Charter;
        var rows = await CopyBook
            .Alive(db)
            .Where(c => c.Job == job.Name && c.Machine == machine && c.Store == store && (c.BinnedAt == null || c.Kind != null))
            .ToListAsync(cancel);
        var at = asOf ?? clock.Now();
        if (asOf < clock.Now())
            rows.RemoveAll(r => r.Taken > at);
        var guards = new RetentionGuards(
            policy.Zone ?? charter.Zone,
            policy.AtLeast,
            job.FreshWithin,
            look.Doubt ?? look.Frozen.GetValueOrDefault((job.Name, machine))
        );
        return PrunePlan.Make(
            job.Name,
            machine,
            store,
            policy.Keep,
            guards,
            CopyBook.Facts(rows, at, charter.Zone).Where(f => f.Copy.BinnedAt is null).Select(f => f.Facts),
            at
        );
    }

    private static async Task<ImmutableArray<string>> BrakeAsync(KeepContext db, PrunePlan plan, CancellationToken cancel)
    {
        var going = plan.Going.Select(c => c.Copy.Id).ToList();
        if (going.Count == 0)
            return [];
        var last = await db
            .PrunePlans.AsNoTracking()
            .Where(p => p.Job == plan.Job && p.Machine == plan.Machine && p.Store == plan.Store && p.AppliedAt != null)
            .OrderByDescending(p => p.AppliedAt)
            .Select(p => p.Body)
            .FirstOrDefaultAsync(cancel);
        var before = last is null ? null : JsonSerializer.Deserialize<StoredPlan>(last);
        var onMachine = await CopyBook
            .InForce(db)
            .CountAsync(c => c.Machine == plan.Machine && (c.State == CopyState.Unchecked || c.State == CopyState.Sound), cancel);
        var learned = await db.Copies.CountAsync(c => c.Store == plan.Store && going.Contains(c.Id) && c.RunId == null, cancel);
        var doubt =
            learned == 0
                ? null
                : $"the catalogue was built anew: {Counted.Of(learned, "of these copies was", "of these copies were")} learned from the "
                    + $"store, not seen being made";
        return Brake.Reasons(plan, new BrakeFacts(before?.ReadPolicy(), before?.ReadGuards(), onMachine, doubt));
    }

    private static PrunePlan Read(PrunePlanRow row) => JsonSerializer.Deserialize<StoredPlan>(row.Body)!.ToPlan();

    private async Task<PrunePlanAnswer> AnswerAsync(KeepContext db, PrunePlan plan, PrunePlanRow? row, CancellationToken cancel)
    {
        var sizes = await db
            .Copies.AsNoTracking()
            .Where(c => c.Job == plan.Job && c.Machine == plan.Machine && c.Store == plan.Store)
            .Select(c => new
            {
                c.Id,
                c.Bytes,
                c.StoredBytes,
            })
            .ToDictionaryAsync(c => c.Id, cancel);
        var bin = inForce.Charter.Stores.TryGetValue(plan.Store, out var store) ? store.Bin.ToString() : "";
        var counts = Enum.GetValues<Verdict>().ToDictionary(v => Kebab.Of(v), v => plan.Copies.Count(c => c.Verdict == v));
        var brake = row is null || row.AppliedAt is not null || row.ConfirmedBy is not null ? [] : await BrakeAsync(db, plan, cancel);
        return new PrunePlanAnswer(
            row?.Fingerprint,
            plan.Job,
            plan.Machine,
            plan.Store,
            plan.Policy.ToString(),
            plan.Guards.AtLeast,
            plan.AsOf.ToDateTimeOffset(),
            plan.Frozen,
            bin,
            [
                .. plan.Copies.Select(c => new VerdictAnswer(
                    c.Copy.Id,
                    c.Copy.Taken.ToDateTimeOffset(),
                    c.Copy.State,
                    c.Verdict,
                    c.Reasons,
                    c.LeavesAt?.ToDateTimeOffset(),
                    sizes.GetValueOrDefault(c.Copy.Id)?.Bytes ?? 0,
                    sizes.GetValueOrDefault(c.Copy.Id)?.StoredBytes ?? 0
                )),
            ],
            counts,
            brake,
            row?.AppliedAt?.ToDateTimeOffset()
        );
    }
}
