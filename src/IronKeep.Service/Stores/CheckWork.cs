using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Hosting;
using IronKeep.Service.Runs;
using IronKeep.Stores.Pooled;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Stores;

/// <summary>Re-reads a whole store and compares it with what was written; copies become sound or unsound by it.</summary>
public sealed class CheckWork(OpenStores stores, IDbContextFactory<KeepContext> catalogue, TimeProvider clock) : IRunWork
{
    private const int FilesNamed = 5;

    public RunKind Kind => RunKind.Check;

    public async Task<RunEnding> DoAsync(LiveRun live, CancellationToken cancel)
    {
        var name = live.Run.Store!;
        var store = stores.Get(name);
        live.Log(LogSeverity.Info, $"content check of store {name}: every pack is read and compared with what was written");
        var report = ContentCheck.Run(store, (done, total) => live.Report(new Progress(0, total, done, 0, 0, 0)), cancel);
        live.Report(new Progress(report.Packs, report.Bytes, report.Bytes, 0, 0, report.Damage.Length));
        foreach (var pack in report.Damage) live.Log(LogSeverity.Error, $"pack {pack.Pack}: {pack.Problem}; its file was moved to 'damaged' in the store");
        foreach (var copy in report.Copies)
        {
            var more = copy.Count > copy.Paths.Length ? $" and {copy.Count - copy.Paths.Length} more" : "";
            live.Log(LogSeverity.Error, $"copy {copy.CopyId} cannot be restored whole: {string.Join(", ", copy.Paths)}{more}");
        }
        await RecordAsync(name, report, live.Run.Began!.Value, clock.Now());
        return report.Sound
            ? new RunEnding(Outcome.Ok, $"store {name} is sound: {Counted.Of(report.Packs, "pack")} ({new ByteSize(report.Bytes)}) read, {Counted.Of(report.Checked.Length, "copy", "copies")} whole")
            : new RunEnding(Outcome.Failed, Say(name, report), FailureClass.DataDamaged);
    }

    private static string Say(string name, CheckReport report)
    {
        if (report.Copies.Length == 0) return $"store {name} had {Counted.Of(report.Damage.Length, "damaged pack")}, but no copy needs what is lost";
        var first = report.Copies[0];
        var files = string.Join(", ", first.Paths.Take(FilesNamed)) + (first.Count > FilesNamed ? $" and {first.Count - FilesNamed} more" : "");
        var others = report.Copies.Length > 1 ? $"; {Counted.Of(report.Copies.Length - 1, "more copy is hurt", "more copies are hurt")}" : "";
        return $"store {name} is damaged ({Counted.Of(report.Damage.Length, "pack")}): copy {first.CopyId} cannot give back {files}{others}";
    }

    private async Task RecordAsync(string store, CheckReport report, Instant began, Instant now)
    {
        await using var db = await catalogue.CreateDbContextAsync();
        var hurt = report.Copies.ToDictionary(c => c.CopyId);
        var seen = report.Checked.Concat(hurt.Keys).ToHashSet();
        foreach (var copy in await db.Copies.Where(c => c.Store == store && c.GoneAt == null).ToListAsync())
        {
            // A copy that came while the check ran was not looked at; an older one without a record is missing.
            if (!seen.Contains(copy.Id) && copy.Ended >= began) continue;
            copy.CheckedAt = now;
            hurt.TryGetValue(copy.Id, out var damage);
            copy.State = damage is not null ? CopyState.Unsound : seen.Contains(copy.Id) ? CopyState.Sound : CopyState.Missing;
            copy.Damage = damage is null ? "" : string.Join('\n', damage.Paths);
            copy.DamageCount = damage?.Count ?? 0;
        }
        await db.SaveChangesAsync();
    }
}
