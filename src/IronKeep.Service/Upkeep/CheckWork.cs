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
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Pooled;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Upkeep;

/// <summary>
/// How many bytes to read at most (null: everything), and how closely. <paramref name="Share"/> is the part of the store that the plan
/// wants read, within the budget (null: no plan).
/// </summary>
public sealed record CheckOrder(long? Budget, CheckDepth Depth = CheckDepth.Content, double? Share = null);

/// <summary>
/// Re-reads a store, or so much of it as the budget lets, least recently read first, and compares it with what was written. A copy
/// becomes sound when everything it needs has been read since it was made, unsound when something is not what was written, missing
/// when its record is gone.
/// </summary>
public sealed class CheckWork(
    OpenStores stores,
    Copies.ShelfKeeper shelves,
    Copies.CopyBook copies,
    CharterInForce charter,
    IDbContextFactory<KeepContext> catalogue,
    RunQueue queue,
    TimeProvider clock
) : IRunWork
{
    public RunKind Kind => RunKind.Check;

    public WhenLost WhenLost => WhenLost.BegunAnew;

    public IEnumerable<AlertStep> AlertsOf(Run run, Charter charter)
    {
        var subject = Subject.OfStore(run.Store!);
        // Only a check that finds all well ends what one before has found.
        if (run.Outcome is Outcome.Ok or Outcome.Warned)
            return [new AlertStep(subject, run.Outcome == Outcome.Ok ? [AlertClass.Failed, AlertClass.Unsound] : [AlertClass.Failed])];
        return
        [
            new AlertStep(
                subject,
                [],
                RunAlerts.Failed(
                    run,
                    subject,
                    charter,
                    run.Failure == FailureClass.DataDamaged ? AlertClass.Unsound : AlertClass.Failed
                ) with
                {
                    Message = run.Brief ?? run.Sentence!,
                }
            ),
        ];
    }

    public async Task<RunEnding> DoAsync(LiveRun live, CancellationToken cancel)
    {
        var name = live.Run.Store!;
        var order = live.Run.Order is { } text ? JsonSerializer.Deserialize<CheckOrder>(text)! : new CheckOrder(null);
        var store = stores.Get(name);
        var budget = BudgetOf(order, store);
        await shelves.SettleAsync(name, notes: true, cancel);
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var known = (await db.Copies.Where(c => c.Store == name && c.GoneAt == null).Select(c => c.Id).ToListAsync(cancel)).ToHashSet();
        var readAt = await db.PackReads.Where(r => r.Store == name).ToDictionaryAsync(r => r.Pack, r => r.At, cancel);
        live.Log(
            LogSeverity.Info,
            budget is null
                ? $"{Kebab.Of(order.Depth)} check of store {name}: "
                    + (
                        store.Can.TakesBackups ? What(order.Depth)
                        : order.Depth == CheckDepth.Presence ? "the files are listed"
                        : "every file is read and compared with the sums that are known of it"
                    )
                : $"{Kebab.Of(order.Depth)} check of store {name}: {store.Can.PartWord}s are read, least recently read first, up to "
                    + $"{new ByteSize(budget.Value)}"
        );
        var began = clock.Now();
        var scope = new CheckScope(
            budget,
            pack => readAt.TryGetValue(pack, out var at) ? at.ToDateTimeOffset() : null,
            began.ToDateTimeOffset(),
            order.Depth
        )
        {
            IsKnown = known.Contains,
        };
        var report = store.Check(scope, (done, total) => live.Report(new Progress(0, total, done, 0, 0, 0)), cancel);
        live.Report(new Progress(report.Packs.Length, report.Bytes, report.Bytes, 0, 0, report.Damage.Length));
        foreach (var pack in report.Damage)
            live.Log(
                LogSeverity.Error,
                $"{store.Can.PartWord} {pack.Pack}: "
                    + $"{pack.Problem}{(store.Can.TakesBackups ? "; its file was moved to 'damaged' in the store" : "")}"
            );
        foreach (var file in report.Files)
            live.Log(LogSeverity.Error, file);
        foreach (var copy in report.Copies)
            Name(live, LogSeverity.Error, copy, "cannot be restored whole");
        await RecordAsync(copies, db, name, store, report, began);
        var missing = await db
            .Copies.Where(c => c.Store == name && c.GoneAt == null && c.State == CopyState.Missing)
            .Select(c => c.Id)
            .ToListAsync(CancellationToken.None);
        foreach (var stray in report.Strays)
            live.Log(LogSeverity.Warning, stray);
        foreach (var id in missing)
            live.Log(
                LogSeverity.Error,
                $"copy {id} is missing: its {(store.Can.TakesBackups ? "record" : "file")} is gone from store {name}"
            );
        if (
            store.Can.Heals
            && report.Copies.Length > 0
            && await HealWork.HelpersAsync(db, charter, name, CancellationToken.None) is { Count: > 0 } helpers
        )
        {
            var heal = await queue.AddAsync(new RunRequest(RunKind.Heal, null, name, Actor.OfRun(live.Run.Id)), CancellationToken.None);
            live.Log(LogSeverity.Info, $"run {heal.Id} tries to bring back from {string.Join(", ", helpers)} what is missing");
        }
        if (!report.Sound || missing.Count > 0)
            return new RunEnding(Outcome.Failed, Say(name, store.Can.PartWord, report, missing), FailureClass.DataDamaged)
            {
                Brief = Brief(name, store.Can.PartWord, report, missing),
            };
        var part = store.Can.PartWord;
        var strays =
            report.Strays.Length == 0
                ? ""
                : $"; {Counted.Of(report.Strays.Length, "file is", "files are")} none of its own, named in the log";
        if (report.Strays.Length > 0 && order.Depth == CheckDepth.Presence)
            return new RunEnding(
                Outcome.Warned,
                $"store {name} has everything its {Counted.Of(report.Whole.Length, "copy needs", "copies need")}: "
                    + $"{Counted.Of(report.TotalPacks, part)} there, none read{strays}"
            );
        if (order.Depth == CheckDepth.Presence)
            return new RunEnding(
                Outcome.Ok,
                $"store {name} has everything its {Counted.Of(report.Whole.Length, "copy needs", "copies need")}: "
                    + $"{Counted.Of(report.TotalPacks, part)} there, none read"
            );
        var read =
            report.Packs.Length == report.TotalPacks
                ? $"all {Counted.Of(report.TotalPacks, part)}"
                : $"{report.Packs.Length} of {Counted.Of(report.TotalPacks, part)}";
        return new RunEnding(
            strays.Length > 0 ? Outcome.Warned : Outcome.Ok,
            $"store {name} is sound: {read} ({new ByteSize(report.Bytes)}) read, {Counted.Of(report.Whole.Length, "copy", "copies")} "
                + $"whole{strays}"
        );
    }

    /// <summary>Writes the paths of a hurt copy into the run's log, one a line, and says how many more there are.</summary>
    internal static void Name(LiveRun live, LogSeverity severity, CopyDamage copy, string what)
    {
        live.Log(severity, $"copy {copy.CopyId} {what}: {Counted.Of(copy.Count, "path is", "paths are")} lost");
        foreach (var path in copy.Paths)
            live.Log(severity, $"  {path}");
        if (copy.Count > copy.Paths.Length)
            live.Log(severity, $"  and {copy.Count - copy.Paths.Length} more");
    }

    /// <summary>The plan's share of the store, within the budget.</summary>
    private static long? BudgetOf(CheckOrder order, IStoreLayout store)
    {
        if (order.Share is not { } share)
            return order.Budget;
        var wanted = (long)Math.Ceiling(store.Parts().Values.Sum() * Math.Min(1, share));
        return order.Budget is { } most ? Math.Min(most, wanted) : wanted;
    }

    private static string What(CheckDepth depth) =>
        depth switch
        {
            CheckDepth.Presence => "the packs are listed, and everything the copies need must be there",
            CheckDepth.Deep => "every pack is read, every chunk decrypted, decompressed and compared with its identity",
            _ => "every pack is read and compared with what was written",
        };

    /// <summary>The same with numbers in place of names, which unfold at the alert.</summary>
    private static string Brief(string name, string part, CheckReport report, List<string> missing)
    {
        if (report.Copies.Length == 0)
            return missing.Count > 0
                ? $"store {name} has lost {Counted.Of(missing.Count, "copy", "copies")}"
                : Say(name, part, report, missing);
        var what = report.Damage.Length > 0 ? $"is damaged ({Counted.Of(report.Damage.Length, part)})" : "lacks what its copies need";
        var files = report.Copies.Sum(c => (long)c.Count);
        var lost = missing.Count > 0 ? $"; {Counted.Of(missing.Count, "copy is", "copies are")} missing" : "";
        var hurt = Counted.Of(report.Copies.Length, "copy", "copies");
        return $"store {name} {what}: {hurt} cannot give back {Counted.Of(files, "file")}{lost}";
    }

    private static string Say(string name, string part, CheckReport report, List<string> missing)
    {
        if (report.Copies.Length == 0)
            return report.Files.Length > 0 && report.Damage.Length == 0 && missing.Count == 0 ? $"store {name}: {report.Files[0]}"
                : missing.Count > 0 ? $"store {name} has lost {Counted.Of(missing.Count, "copy", "copies")}: {Counted.Named(missing)}"
                : $"store {name} had {Counted.Of(report.Damage.Length, $"damaged {part}")}, but no copy needs what is lost";
        var first = report.Copies[0];
        var files = Counted.Named(first.Paths, first.Count) + (first.Count > 2 ? " (all of them in the run's log)" : "");
        var others =
            report.Copies.Length > 1 ? $"; {Counted.Of(report.Copies.Length - 1, "more copy is hurt", "more copies are hurt")}" : "";
        var lost = missing.Count > 0 ? $"; {Counted.Of(missing.Count, "copy is", "copies are")} missing" : "";
        var what = report.Damage.Length > 0 ? $"is damaged ({Counted.Of(report.Damage.Length, part)})" : "lacks what its copies need";
        if (part == "file")
            return $"store {name} {what}: {first.CopyId} is not what it was: {report.Damage[0].Problem}{others}{lost}";
        return $"store {name} {what}: copy {first.CopyId} cannot give back {files}{others}{lost}";
    }

    internal static async Task RecordAsync(
        CopyBook copies,
        KeepContext db,
        string store,
        IStoreLayout opened,
        CheckReport report,
        Instant began
    )
    {
        // Two checks of one store would each enter, or take out, what the other has.
        using var turn = await copies.TurnAsync(store, CancellationToken.None);
        var noted = new List<string>();
        var hurt = report.Copies.ToDictionary(c => c.CopyId);
        var whole = report.Whole.ToDictionary(c => c.CopyId);
        foreach (var copy in await db.Copies.Where(c => c.Store == store && c.GoneAt == null).ToListAsync())
        {
            // A copy that came while the check ran was not looked at.
            var damage = hurt.GetValueOrDefault(copy.Id);
            if (damage is null && !whole.ContainsKey(copy.Id))
                continue;
            var before = (copy.State == CopyState.Unsound, copy.DamageCount);
            copy.Damage = damage is null ? "" : string.Join('\n', damage.Paths);
            copy.DamageCount = damage?.Count ?? 0;
            if (before != (damage is not null, copy.DamageCount))
                noted.Add(copy.Id);
            if (damage is not null)
                (copy.State, copy.CheckedAt) = (CopyState.Unsound, began);
            else if (whole[copy.Id].ReadSince is { } since)
                (copy.State, copy.CheckedAt) = (CopyState.Sound, Instant.FromDateTimeOffset(since));
            else if (copy.State is not CopyState.Sound)
                (copy.State, copy.CheckedAt) = (CopyState.Unchecked, null);
        }
        await db.SaveChangesAsync();
        // The packs of today with their times; those that are gone, and those that were set aside, are forgotten.
        var packs = opened.Parts().Keys.ToHashSet();
        var known = await db.PackReads.Where(r => r.Store == store).ToDictionaryAsync(r => r.Pack);
        foreach (var row in known.Values.Where(r => !packs.Contains(r.Pack)))
            db.PackReads.Remove(row);
        foreach (var pack in report.Packs.Where(packs.Contains))
        {
            if (known.TryGetValue(pack, out var row))
                row.At = began;
            else
                db.PackReads.Add(
                    new PackRead
                    {
                        Store = store,
                        Pack = pack,
                        At = began,
                    }
                );
        }
        await db.SaveChangesAsync();
        if (noted.Count > 0)
            await copies.NoteAsync(store, noted);
    }
}
