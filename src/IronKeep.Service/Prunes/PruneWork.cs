using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Hearing;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Stores.Places;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Prunes;

/// <summary>Which plan to carry out.</summary>
public sealed record PruneOrder(string Fingerprint)
{
    /// <summary>
    /// Whether a success asked for it, and nobody has looked at the plan: when it no longer holds, one of now takes its place.
    /// </summary>
    public bool Automatic { get; init; }
}

/// <summary>
/// Carries out a prune plan: what it lists as going goes to the bin, each removal logged with its result; nothing else is touched.
/// </summary>
public sealed class PruneWork(
    PruneDesk desk,
    OpenStores stores,
    ShelfKeeper shelves,
    CharterInForce charter,
    IDbContextFactory<KeepContext> catalogue,
    TimeProvider clock
) : IRunWork
{
    public RunKind Kind => RunKind.Prune;

    /// <summary>Its plan says what is left to do.</summary>
    public WhenLost WhenLost => WhenLost.CarriedOn;

    public IEnumerable<AlertStep> AlertsOf(Run run, Charter charter) =>
        RunAlerts.Usual(run, Subject.OfPrune(run.Job!, run.Machine, run.Store!), charter, AlertClass.Failed, AlertClass.BrakedPrune);

    public async Task<RunEnding> DoAsync(LiveRun live, CancellationToken cancel)
    {
        var order = JsonSerializer.Deserialize<PruneOrder>(live.Run.Order!)!;
        var fingerprint = order.Fingerprint;
        await shelves.SettleAsync(live.Run.Store!, notes: false, cancel);
        var (plan, problem) = await desk.ReviewAsync(fingerprint, cancel);
        if (
            plan is null
            && order.Automatic
            && charter.Charter.Placed.Find(live.Run.Job!, live.Run.Machine) is { } job
            && job.Into.Contains(live.Run.Store!)
        )
        {
            var (current, going) = await desk.AutomaticAsync(job, live.Run.Machine, live.Run.Store!, cancel);
            if (current is null)
                return new RunEnding(Outcome.HeldBack, $"{problem}; the plan of now is held by the brake, and somebody has to look at it");
            if (going == 0)
                return new RunEnding(Outcome.NotNeeded, $"{problem}; by the plan of now nothing goes");
            live.Log(LogSeverity.Info, $"{problem}; the plan of now, {current}, takes its place");
            fingerprint = current;
            (plan, problem) = await desk.ReviewAsync(fingerprint, cancel);
        }
        if (plan is null)
            return new RunEnding(Outcome.Refused, problem!);
        var store = stores.Get(plan.Store);
        store.CheckStillThere();
        int gone = 0,
            stuck = 0;
        HashSet<string> before;
        await using (var db = await catalogue.CreateDbContextAsync(cancel))
        {
            var listed = plan.Going.Select(v => v.Copy.Id).ToList();
            before = (
                await db
                    .Copies.Where(c => c.Store == plan.Store && listed.Contains(c.Id) && c.BinnedAt != null)
                    .Select(c => c.Id)
                    .ToListAsync(cancel)
            ).ToHashSet();
        }
        // What an interrupted carrying-out has moved already is done, and not counted twice.
        foreach (var verdict in plan.Going.Where(v => !before.Contains(v.Copy.Id)))
        {
            cancel.ThrowIfCancellationRequested();
            try
            {
                var moved = store.MoveToBin(verdict.Copy.Id, clock.GetUtcNow());
                await using var db = await catalogue.CreateDbContextAsync(CancellationToken.None);
                var row = db.Copies.Where(c => c.Id == verdict.Copy.Id && c.Store == plan.Store);
                if (!moved)
                {
                    await row.ExecuteUpdateAsync(s => s.SetProperty(c => c.State, CopyState.Missing), CancellationToken.None);
                    live.Log(
                        LogSeverity.Error,
                        $"copy {verdict.Copy.Id} has no record in store {plan.Store} and is missing; check the store"
                    );
                    stuck++;
                    continue;
                }
                await row.ExecuteUpdateAsync(s => s.SetProperty(c => c.BinnedAt, clock.Now()), CancellationToken.None);
                live.Log(LogSeverity.Info, $"copy {verdict.Copy.Id} went to the bin: {string.Join("; ", verdict.Reasons)}");
                gone++;
            }
            catch (PlaceException e) when (e.Fault is PlaceFault.AccessRefused or PlaceFault.Other or PlaceFault.NotFound)
            {
                live.Log(LogSeverity.Error, $"copy {verdict.Copy.Id} could not be moved to the bin and stays: {e.Message}");
                stuck++;
            }
            live.Report(new Progress(gone, 0, 0, 0, 0, stuck));
        }
        // One that could not be moved stays in the plan; when its cause is mended the same plan can be applied again.
        if (stuck == 0)
            await desk.MarkAppliedAsync(plan, fingerprint, CancellationToken.None);
        var kept = plan.Copies.Length - gone - stuck - before.Count;
        return stuck == 0
            ? new RunEnding(
                Outcome.Ok,
                $"{Counted.Of(gone, "copy", "copies")} of {plan.Job} went to the bin of store {plan.Store}, {kept} stay"
            )
            : new RunEnding(
                Outcome.Warned,
                $"{Counted.Of(gone, "copy", "copies")} of {plan.Job} went to the bin of store {plan.Store}, {stuck} could not be moved and "
                    + $"stay, {kept} stay by the plan"
            );
    }
}
