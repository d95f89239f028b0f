using System.Globalization;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Clocks;
using IronKeep.Service.Facts;
using IronKeep.Service.Hearing;
using IronKeep.Service.Reports;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Service.Telling;
using IronKeep.Service.Timetable;
using IronKeep.Service.Workers;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Health;

/// <summary>
/// The service looks at itself: its own files, its stores, its clock and its loop. What makes it useless stops the start and is
/// named; the rest is told as findings, and an unreachable store as an alert.
/// </summary>
public sealed class SelfCheck(
    CharterInForce inForce,
    StoreRoom room,
    OpenStores stores,
    ClockWatch clockWatch,
    ClockLoop loop,
    Dispatch dispatch,
    Teller teller,
    ReportDesk reports,
    FactCarrier carrier,
    LogWatching logs,
    FolderWatching folders,
    SyslogListening syslog,
    TelemetryLink telemetry,
    WorkerSelf self,
    CatalogueGuard guard,
    IDbContextFactory<KeepContext> catalogue,
    TimeProvider clock,
    IOptions<ServiceSettings> settings
)
{
    private static readonly DateTimeOffset NotBefore = new(2026, 1, 1, 0, 0, 0, TimeSpan.Zero);
    private readonly DateTimeOffset started = clock.GetUtcNow();

    public static string Version { get; } = typeof(SelfCheck).Assembly.GetName().Version?.ToString(3) ?? "0";

    /// <summary>Whether the service can do its work now: its catalogue answers and its loop comes round.</summary>
    public async Task<bool> IsReadyAsync(CancellationToken cancel) => LoopIsWell && await CatalogueIsWellAsync(cancel) is null;

    public async Task<SelfCheckAnswer> LookAsync(CancellationToken cancel)
    {
        var findings = new List<SelfFinding>();
        var problem = await CatalogueIsWellAsync(cancel);
        findings.Add(
            Finding(
                "catalogue",
                problem is null ? FindingState.Well : FindingState.Failed,
                problem
                    ?? $"{CatalogueKinds.Told(settings.Value.CatalogueAt)} "
                        + $"answers{(settings.Value.CatalogueIsShared ? "" : " and is whole")}"
            )
        );
        var since = loop.Rounds.SinceLast;
        findings.Add(
            Finding(
                "clock loop",
                LoopIsWell ? FindingState.Well : FindingState.Failed,
                !settings.Value.Ticking && since is null ? "driven from outside"
                    : loop.Rounds.Problem is { } standing
                        ? $"{standing}; nothing becomes due meanwhile: read the service's own log, and start the service again"
                    : since is null ? "it has not come round yet"
                    : $"came round {since.Value.TotalSeconds.ToString("0", CultureInfo.InvariantCulture)} s ago"
            )
        );
        if (problem is null)
            findings.AddRange(await SharedAsync(cancel));
        foreach (
            var (what, rounds) in new[]
            {
                ("dispatch", dispatch.Rounds),
                ("teller", teller.Rounds),
                ("reports", reports.Rounds),
                ("facts", carrier.Rounds),
                ("followed logs", logs.Rounds),
                ("folders of dated files", folders.Rounds),
            }
        )
            findings.Add(
                Finding(
                    what,
                    settings.Value.Ticking && rounds.Problem is not null ? FindingState.Failed : FindingState.Well,
                    settings.Value.Ticking && rounds.Problem is { } trouble ? $"{trouble}; read the service's own log" : "comes round"
                )
            );
        findings.Add(
            problem is null && await clockWatch.DoubtAsync(cancel) is { } doubt
                ? Finding("clock", FindingState.Failed, $"{doubt}; nothing expires until it is set right or confirmed")
            : clock.GetUtcNow() < NotBefore
                ? Finding(
                    "clock",
                    FindingState.Failed,
                    $"it says {clock.GetUtcNow():u}, which is before this program was made; set it right"
                )
            : Finding("clock", FindingState.Well, $"it says {clock.GetUtcNow():u}")
        );
        if (Syslog() is { } heard)
            findings.Add(heard);
        if (telemetry.Finding is { } sent)
            findings.Add(Finding("telemetry", sent.State, sent.Sentence));
        foreach (var store in inForce.Charter.Stores.Values)
        {
            var at = await room.OfAsync(store);
            findings.Add(
                at.Problem is { } away ? Finding($"store {store.Name}", FindingState.Failed, away)
                : await ReadOnlyAsync(store) is { } not ? Finding($"store {store.Name}", FindingState.Failed, not)
                : at.NearlyFull ? Finding($"store {store.Name}", FindingState.Warned, "nearly full")
                : Finding($"store {store.Name}", FindingState.Well, $"reachable at {store.Folder}")
            );
        }
        return new SelfCheckAnswer(Version, started, problem is null && LoopIsWell, findings);
    }

    private SelfFinding? Syslog()
    {
        var jobs = inForce.Charter.Placed.All.Where(j => j.HeardBy.Contains(EvidenceSource.Syslog)).Select(j => j.Name).Distinct().ToList();
        if (settings.Value.SyslogListen.Length == 0)
            return jobs.Count == 0
                ? null
                : Finding(
                    "syslog",
                    FindingState.Failed,
                    $"{string.Join(", ", jobs)} {(jobs.Count == 1 ? "is" : "are")} heard by syslog, and nobody listens for it; set "
                        + $"IronKeep:SyslogListen, such as udp://127.0.0.1:5514"
                );
        if (syslog.Problem is { } problem)
            return Finding("syslog", FindingState.Failed, problem);
        var dropped = syslog.Strangers + syslog.Flooded;
        return Finding(
            "syslog",
            dropped > 0 ? FindingState.Warned : FindingState.Well,
            $"listens on "
                + $"{(syslog.Listens.Count == 0 ? "nothing yet" : string.Join(", ", syslog.Listens))}"
                + (
                    dropped == 0
                        ? ""
                        : $"; dropped {syslog.Strangers} of senders that are not allowed, "
                            + $"and {syslog.Flooded} lines of senders that sent too many"
                )
        );
    }

    /// <summary>
    /// Who follows from facts and cannot; and where several services share the catalogue, which of them are there and which leads.
    /// </summary>
    private async Task<List<SelfFinding>> SharedAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var found = (await db.FollowerPositions.AsNoTracking().Where(f => f.Problem != null).ToListAsync(cancel))
            .Select(f =>
                Finding(
                    $"what follows: {f.Name}",
                    FindingState.Failed,
                    $"it stumbles over what comes after fact {f.Position} and tries again: {f.Problem}"
                )
            )
            .ToList();
        if (!self.IsShared)
            return found;
        var leads = (await db.Leases.AsNoTracking().FirstOrDefaultAsync(cancel))?.Worker;
        var there = await db.Workers.AsNoTracking().Where(w => !w.Gone).OrderBy(w => w.BegunAt).ToListAsync(cancel);
        var names = there.Select(w =>
            $"{w.Address} on {w.Host}{(w.Id == leads ? ", which has the clock" : "")}{(w.Id == self.Id ? ", this one" : "")}"
        );
        found.Add(
            Finding(
                "services",
                there.Exists(w => w.Id == leads) ? FindingState.Well : FindingState.Warned,
                $"{Core.Quantities.Counted.Of(there.Count, "service")} on the catalogue: {string.Join("; ", names)}"
            )
        );
        return found;
    }

    /// <summary>Refuses to start on a catalogue file that is damaged, by name; a missing one is made.</summary>
    public static void RefuseDamaged(string path)
    {
        if (!File.Exists(path))
            return;
        try
        {
            using var connection = new SqliteConnection($"Data Source={path};Pooling=False");
            connection.Open();
            using var command = connection.CreateCommand();
            command.CommandText = "PRAGMA quick_check(1)";
            if (command.ExecuteScalar() as string is not "ok" and var said)
                throw Damaged(path, said ?? "no answer");
        }
        catch (SqliteException e)
        {
            throw Damaged(path, e.Message);
        }
    }

    private static StartRefusedException Damaged(string path, string why) =>
        new(
            $"the catalogue {path} is damaged ({why}). Copies are not touched by this. Put back a copy of the file from before, or move it "
                + $"(with its -wal and -shm) away: the service then begins anew, and applying the charter reads the copies back from their "
                + $"stores"
        );

    /// <summary>
    /// Why nothing can be written to a store on this machine, asked of the folder's rights alone; null when something can.
    /// </summary>
    private async Task<string?> ReadOnlyAsync(Core.Charters.StoreDefinition store)
    {
        if (store.LocalFolder is null || store.Dated is not null)
            return null;
        try
        {
            return await stores.WithinAsync(store.Name, () => IronKeep.Stores.Posix.RealPaths.WhyNotWritable(store.Folder)) is { } why
                ? $"store {store.Name} cannot be written: {why}; mount it for writing, or give the service the right to"
                : null;
        }
        catch (IronKeep.Stores.Places.PlaceException e)
        {
            return e.Message;
        }
    }

    /// <summary>Whether the loops move, if only from one failure to the next: what a restart can mend is a loop that hangs.</summary>
    public bool Moves => !settings.Value.Ticking || loop.Rounds.Moves && dispatch.Rounds.Moves;

    private bool LoopIsWell => !settings.Value.Ticking || loop.Rounds.Problem is null && dispatch.Rounds.Problem is null;

    private async Task<string?> CatalogueIsWellAsync(CancellationToken cancel)
    {
        if (guard.Problem is { } refused)
            return refused;
        try
        {
            await using var db = await catalogue.CreateDbContextAsync(cancel);
            await db.KeptValues.AnyAsync(cancel);
            return null;
        }
        catch (Exception e) when (CatalogueKinds.IsRefusal(e))
        {
            return $"the catalogue does not answer: {e.Message}";
        }
    }

    private static SelfFinding Finding(string what, FindingState state, string sentence) => new(what, state, sentence);
}
