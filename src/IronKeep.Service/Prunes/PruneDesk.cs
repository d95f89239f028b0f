using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Core.Prunes;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Watching;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Hosting;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Prunes;

/// <summary>Makes prune plans, keeps them by fingerprint, and finds out whether one still holds.</summary>
public sealed class PruneDesk(IDbContextFactory<KeepContext> catalogue, CharterInForce charter, TimeProvider clock, IOptions<ServiceSettings> settings)
{
    /// <summary>The plan of today for a job, stored under its fingerprint; null when the charter has no such job.</summary>
    public async Task<PrunePlanAnswer?> PlanAsync(string job, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (await MakeAsync(db, job, cancel) is not { } plan) return null;
        var fingerprint = plan.Fingerprint();
        var row = await db.PrunePlans.FindAsync([fingerprint], cancel);
        if (row is null)
        {
            row = new PrunePlanRow { Fingerprint = fingerprint, Job = plan.Job, Machine = plan.Machine, Store = plan.Store, AsOf = plan.AsOf, Body = "" };
            db.PrunePlans.Add(row);
        }
        row.AsOf = plan.AsOf;
        row.Body = JsonSerializer.Serialize(StoredPlan.Of(plan));
        await db.SaveChangesAsync(cancel);
        return await AnswerAsync(db, row, cancel);
    }

    public async Task<PrunePlanAnswer?> FindAsync(string fingerprint, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        return await db.PrunePlans.FindAsync([fingerprint], cancel) is { } row ? await AnswerAsync(db, row, cancel) : null;
    }

    /// <summary>Whether the stored plan may be carried out now: the plan with null, or what has changed since it was shown.</summary>
    public async Task<(PrunePlan? Plan, string? Drift)> ReviewAsync(string fingerprint, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (await db.PrunePlans.FindAsync([fingerprint], cancel) is not { } row) return (null, $"there is no prune plan {fingerprint}");
        if (row.AppliedAt is { } applied) return (null, $"plan {fingerprint} was applied already, at {applied}");
        var plan = JsonSerializer.Deserialize<StoredPlan>(row.Body)!.ToPlan();
        if (await MakeAsync(db, row.Job, cancel) is not { } today) return (null, $"the charter has no job {row.Job} any more");
        return plan.DriftAgainst(today) is { } drift ? (null, drift) : (plan, null);
    }

    public async Task MarkAppliedAsync(string fingerprint, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        await db.PrunePlans.Where(p => p.Fingerprint == fingerprint).ExecuteUpdateAsync(s => s.SetProperty(p => p.AppliedAt, clock.Now()), cancel);
    }

    private async Task<PrunePlan?> MakeAsync(KeepContext db, string jobName, CancellationToken cancel)
    {
        var inForce = charter.Charter;
        if (!inForce.Jobs.TryGetValue(jobName, out var job)) return null;
        var policy = inForce.Policies[job.Policy];
        var machine = settings.Value.Machine;
        var rows = await CopyBook.InForce(db).Where(c => c.Job == jobName && c.Machine == machine && c.Store == job.Into).ToListAsync(cancel);
        return PrunePlan.Make(jobName, machine, job.Into, policy.Keep, new RetentionGuards(policy.Zone ?? inForce.Zone, policy.AtLeast, job.FreshWithin), rows.Select(CopyBook.Facts), clock.Now());
    }

    private async Task<PrunePlanAnswer> AnswerAsync(KeepContext db, PrunePlanRow row, CancellationToken cancel)
    {
        var plan = JsonSerializer.Deserialize<StoredPlan>(row.Body)!.ToPlan();
        var sizes = await db.Copies.AsNoTracking().Where(c => c.Job == row.Job && c.Store == row.Store)
            .Select(c => new { c.Id, c.Bytes, c.StoredBytes }).ToDictionaryAsync(c => c.Id, cancel);
        var bin = charter.Charter.Stores.TryGetValue(row.Store, out var store) ? store.Bin.ToString() : "";
        var counts = Enum.GetValues<Verdict>().ToDictionary(v => Kebab.From(v.ToString()), v => plan.Copies.Count(c => c.Verdict == v));
        return new PrunePlanAnswer(
            row.Fingerprint, row.Job, row.Machine, row.Store, plan.Policy.ToString(), plan.Guards.AtLeast, plan.AsOf.ToDateTimeOffset(), plan.Frozen, bin,
            [.. plan.Copies.Select(c => new VerdictAnswer(
                c.Copy.Id, c.Copy.Taken.ToDateTimeOffset(), Kebab.From(c.Copy.State.ToString()), Kebab.From(c.Verdict.ToString()), c.Reasons,
                c.LeavesAt?.ToDateTimeOffset(), sizes.GetValueOrDefault(c.Copy.Id)?.Bytes ?? 0, sizes.GetValueOrDefault(c.Copy.Id)?.StoredBytes ?? 0))],
            counts, row.AppliedAt?.ToDateTimeOffset());
    }

    /// <summary>A plan in the form in which it is stored: words and ticks only.</summary>
    private sealed record StoredPlan(string Job, string Machine, string Store, string Policy, string Zone, int AtLeast, string? FreshWithin, long AsOf, bool Frozen, StoredVerdict[] Copies)
    {
        public static StoredPlan Of(PrunePlan p) => new(
            p.Job, p.Machine, p.Store, p.Policy.ToString(), p.Guards.Zone.Id, p.Guards.AtLeast, p.Guards.FreshWithin?.ToString(), p.AsOf.ToUnixTimeTicks(), p.Frozen,
            [.. p.Copies.Select(c => new StoredVerdict(c.Copy.Id, c.Copy.Taken.ToUnixTimeTicks(), c.Copy.State, c.Copy.Base, c.Copy.Held, c.Verdict, [.. c.Reasons], c.LeavesAt?.ToUnixTimeTicks()))]);

        public PrunePlan ToPlan()
        {
            Span? fresh = FreshWithin is not null && Span.TryParse(FreshWithin, out var span, out _) ? span : null;
            return new PrunePlan(
                Job, Machine, Store, RetentionSentence.Read(Policy).Policy!, new RetentionGuards(DateTimeZoneProviders.Tzdb[Zone], AtLeast, fresh),
                Instant.FromUnixTimeTicks(AsOf), Frozen,
                [.. Copies.Select(c => new CopyVerdict(
                    new CopyFacts(c.Id, Instant.FromUnixTimeTicks(c.Taken), c.State, c.Base, c.Held), c.Verdict, [.. c.Reasons],
                    c.LeavesAt is { } at ? Instant.FromUnixTimeTicks(at) : null))]);
        }
    }

    private sealed record StoredVerdict(string Id, long Taken, CopyState State, string? Base, string? Held, Verdict Verdict, string[] Reasons, long? LeavesAt);
}
