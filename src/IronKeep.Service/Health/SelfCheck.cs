using System.Globalization;
using IronKeep.Contracts;
using IronKeep.Service.Alerts;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Hosting;
using IronKeep.Service.Stores;
using IronKeep.Service.Timetable;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Health;

/// <summary>
/// The service looks at itself: its own files, its stores, its clock and its loop. What makes it useless stops the start and is
/// named; the rest is told as findings, and an unreachable store as an alert.
/// </summary>
public sealed class SelfCheck(
    CharterInForce inForce, StoreRoom room, ClockWatch clockWatch, ClockLoop loop, AlertBook alerts, IDbContextFactory<KeepContext> catalogue,
    TimeProvider clock, IOptions<ServiceSettings> settings, ILogger<SelfCheck> log)
{
    private static readonly TimeSpan LoopStopped = TimeSpan.FromMinutes(2);
    private static readonly DateTimeOffset NotBefore = new(2026, 1, 1, 0, 0, 0, TimeSpan.Zero);
    private readonly DateTimeOffset started = clock.GetUtcNow();

    public static string Version { get; } = typeof(SelfCheck).Assembly.GetName().Version?.ToString(3) ?? "0";

    /// <summary>Whether the service can do its work now: its catalogue answers and its loop comes round.</summary>
    public async Task<bool> IsReadyAsync(CancellationToken cancel) => LoopIsWell && await CatalogueIsWellAsync(cancel) is null;

    public async Task<SelfCheckAnswer> LookAsync(CancellationToken cancel)
    {
        var findings = new List<SelfFinding>();
        var problem = await CatalogueIsWellAsync(cancel);
        findings.Add(Finding("catalogue", problem is null ? "well" : "failed", problem ?? $"{Path.Combine(settings.Value.DataFolder, "catalogue.db")} answers and is whole"));
        var since = loop.SinceLastTick;
        findings.Add(Finding("clock loop", LoopIsWell ? "well" : "failed", !settings.Value.Ticking && since is null ? "driven from outside"
            : since is null ? "it has not come round yet" : $"came round {since.Value.TotalSeconds.ToString("0", CultureInfo.InvariantCulture)} s ago{(LoopIsWell ? "" : ": it stands still, so nothing becomes due; start the service again and keep its log")}"));
        findings.Add(clockWatch.Doubt is { } doubt ? Finding("clock", "failed", $"{doubt}; nothing expires until it is set right or confirmed")
            : clock.GetUtcNow() < NotBefore ? Finding("clock", "failed", $"it says {clock.GetUtcNow():u}, which is before this program was made; set it right")
            : Finding("clock", "well", $"it says {clock.GetUtcNow():u}"));
        foreach (var store in inForce.Charter.Stores.Values)
        {
            var at = room.Of(store);
            findings.Add(at.Problem is { } away ? Finding($"store {store.Name}", "failed", away) : at.NearlyFull ? Finding($"store {store.Name}", "warned", "nearly full") : Finding($"store {store.Name}", "well", $"reachable at {store.Folder}"));
        }
        return new SelfCheckAnswer(Version, started, problem is null && LoopIsWell, findings);
    }

    /// <summary>The look at the start: findings go to the log, a store that is away becomes an alert at once, not at its next run.</summary>
    public async Task AtStartAsync(CancellationToken cancel)
    {
        foreach (var finding in (await LookAsync(cancel)).Findings.Where(f => f.State != "well" && f.What != "clock loop"))
        {
            log.LogWarning("Self-check: {What}: {Sentence}", finding.What, finding.Sentence);
            if (finding is not { State: "failed" } || !finding.What.StartsWith("store ", StringComparison.Ordinal)) continue;
            if (!alerts.IsOpen(finding.What, AlertClass.Failed))
                await alerts.RaiseAsync(new Matter(finding.What, AlertClass.Failed, finding.Sentence, Core.Watching.FailureWords.Remedy(Core.Watching.FailureClass.StoreUnreachable)), cancel);
        }
    }

    /// <summary>Refuses to start on a catalogue file that is damaged, by name; a missing one is made.</summary>
    public static void RefuseDamaged(string dataFolder)
    {
        var path = Path.Combine(dataFolder, "catalogue.db");
        if (!File.Exists(path)) return;
        try
        {
            using var connection = new SqliteConnection($"Data Source={path};Pooling=False");
            connection.Open();
            using var command = connection.CreateCommand();
            command.CommandText = "PRAGMA quick_check(1)";
            if (command.ExecuteScalar() as string is not "ok" and var said) throw Damaged(path, said ?? "no answer");
        }
        catch (SqliteException e)
        {
            throw Damaged(path, e.Message);
        }
    }

    private static StartRefusedException Damaged(string path, string why) => new(
        $"the catalogue {path} is damaged ({why}). Copies are not touched by this. Put back a copy of the file from before, or move it (with its -wal and -shm) away: the service then begins anew, and applying the charter reads the copies back from their stores");

    private bool LoopIsWell => !settings.Value.Ticking || loop.SinceLastTick is not { } since || since < LoopStopped;

    private async Task<string?> CatalogueIsWellAsync(CancellationToken cancel)
    {
        try
        {
            await using var db = await catalogue.CreateDbContextAsync(cancel);
            await db.Notes.AnyAsync(cancel);
            return null;
        }
        catch (SqliteException e)
        {
            return $"the catalogue does not answer: {e.Message}";
        }
    }

    private static SelfFinding Finding(string what, string state, string sentence) => new(what, state, sentence);
}
