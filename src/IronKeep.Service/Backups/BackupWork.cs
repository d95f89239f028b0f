using System.Collections.Immutable;
using IronKeep.Catalogue;
using IronKeep.Core.Ceilings;
using IronKeep.Core.Charters;
using IronKeep.Core.Dated;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Backups;
using IronKeep.Runs.Steps;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Hearing;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Remote;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Backups;

/// <summary>
/// Makes a copy of a job's sources in each of its stores, one after the other; a store that fails does not keep the others from theirs.
/// </summary>
public sealed class BackupWork(
    CharterInForce charter,
    EarlierCharters earlier,
    OpenStores stores,
    StoreRoom rooms,
    CopyBook copies,
    ShelfKeeper shelves,
    RemoteBackups remote,
    StepsDesk desk,
    NextCopies nextCopies,
    IDbContextFactory<KeepContext> catalogue,
    IOptions<ServiceSettings> settings,
    TimeProvider clock
) : IRunWork
{
    /// <summary>How long a source may be measured before the first copy of it, to see whether it fits.</summary>
    private static readonly TimeSpan Measures = TimeSpan.FromMinutes(5);

    public RunKind Kind => RunKind.Backup;

    public bool IsRetried => true;
    public bool IsOnMachine => true;

    /// <summary>Its job, stores and locks.</summary>
    public RunClaim ClaimOf(Run run, Charter charter)
    {
        var order = RerunOrder.Of(run);
        return charter.Placed.Find(run.Job!, run.Machine) is { } job
            ? new RunClaim(
                job.Name,
                run.Machine,
                [.. order?.Into ?? job.Into],
                [.. order?.Locks ?? job.Locks],
                charter.ImportanceOf(job),
                run.Due ?? run.NotBefore ?? run.Queued
            )
            : new RunClaim(
                run.Job!,
                run.Machine,
                run.Store is null ? [] : [run.Store],
                [],
                MachineDefinition.UsualImportance,
                run.Due ?? run.Queued
            );
    }

    public IEnumerable<AlertStep> AlertsOf(Run run, Charter charter) => BackupAlerts.Of(run, charter);

    private sealed record Made(
        string Store,
        string? CopyId,
        string Words,
        RunFigures? Figures,
        FailureClass? Failure = null,
        bool StoreFailed = false,
        bool NeverBegan = false
    )
    {
        public CopyKind? Kind { get; init; }
        public string? AskedBy { get; init; }
    }

    public async Task<RunEnding> DoAsync(LiveRun live, CancellationToken cancel)
    {
        if (charter.Charter.Placed.Find(live.Run.Job!, live.Run.Machine) is not { } job)
            return new RunEnding(Outcome.Cancelled, $"the charter has no job {live.Run.Job} on {live.Run.Machine} any more");
        var declared = charter.Charter;
        if (RerunOrder.Of(live.Run) is { } order)
        {
            if (
                await earlier.OfAsync(order.Revision, cancel) is not { } before
                || before.Placed.Find(job.Name, live.Run.Machine) is not { } then
                || then.Into.Any(s => !charter.Charter.Stores.ContainsKey(s))
            )
                return new RunEnding(
                    Outcome.Cancelled,
                    $"the settings of revision {order.Revision} of the charter cannot be used any more; run {job.Name} with today's"
                );
            (job, declared) = (then, before);
            live.Log(LogSeverity.Info, $"with the settings of revision {order.Revision} of the charter");
        }
        var isHere = live.Run.Machine == settings.Value.Machine;
        // Links can have changed since the charter was applied.
        if (isHere && PlaceRules.Unsafe(job, charter.Charter.Stores.Values) is { } why)
            throw new RunFailedException(FailureClass.UnsafePlace, why);
        var streams = job.Streams.Select(s => declared.Steps[s]).Select(s => new StreamSource(RunStep.Of(s), s.KeepsAs ?? s.Name));
        var sources = new Sources(isHere, [.. streams]);
        if (desk.Of(live, job, declared.StepsOf(job)) is not { } steps)
            return await CopyAsync(live, job, sources, cancel);
        return await AroundCopies.RunAsync(steps, live.Log, () => CopyAsync(live, job, sources, cancel), cancel);
    }

    /// <summary>Whether the run is of the service's own machine, and the commands whose output it takes.</summary>
    private sealed record Sources(bool AreHere, ImmutableArray<StreamSource> Streams);

    private async Task<RunEnding> CopyAsync(LiveRun live, PlacedJob job, Sources sources, CancellationToken cancel)
    {
        var takes = sources.AreHere ? job.Takes.Select(t => Real(t, live)).Distinct().ToArray() : [.. job.Takes];
        var made = new List<Made>();
        foreach (var store in job.Into)
            made.Add(await IntoAsync(live, job, store, takes, sources, made, cancel));
        // Asked for once before it began, and made wherever there are full ones.
        if (made.Exists(m => m.AskedBy is not null) && made.TrueForAll(m => m.CopyId is not null && m.Kind is null or CopyKind.Full))
            await nextCopies.AskForFullAsync(job.Name, live.Run.Machine, null, cancel);
        var ending = await EndAsync(live, job, made, cancel);
        if (made.Find(m => m.CopyId is not null)?.Figures is not { } figures)
            return ending;
        var churn = figures.Churn;
        var measure = new ChurnMeasure(churn, made.Sum(m => m.Figures?.NewBytes ?? 0), made.Sum(m => m.Figures?.StoredBytes ?? 0));
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var surge = Surges.Judge(await RunHistory.LastChurnsAsync(db, live.Run, cancel), measure);
        foreach (var reason in surge)
            live.Log(LogSeverity.Warning, reason);
        return ending with { Churn = churn, Surge = surge.IsEmpty ? null : string.Join("; ", surge) };
    }

    /// <summary>What reads the run's machine over SFTP; null where its agent does.</summary>
    private SftpSource? SourceOver(LiveRun live) =>
        charter.Charter.Machines.GetValueOrDefault(live.Run.Machine)?.ReadOver is { } server
            ? new SftpSource(new SftpAddress(server.User, server.Host, server.Port, server.Folder, server.HostKey, server.LoginKey))
            : null;

    private async Task<Made> IntoAsync(
        LiveRun live,
        PlacedJob job,
        string storeName,
        string[] takes,
        Sources sources,
        List<Made> before,
        CancellationToken cancel
    )
    {
        RunFigures? figures = null;
        var isHere = sources.AreHere;
        try
        {
            if (await rooms.MakeFirstAsync(charter.Charter.Stores[storeName], cancel) is { } not)
                throw new PlaceException(PlaceFault.AccessRefused, not);
            var store =
                stores.Get(storeName) as IBackupLayout
                ?? throw new RunFailedException(
                    FailureClass.UnsafePlace,
                    $"store {storeName} is of a layout that backup runs do not write"
                );
            var (next, below, asked) =
                store is PooledStore ? (null, null, null) : await nextCopies.OfAsync(job, live.Run.Machine, storeName, store, cancel);
            var previous = below ?? await copies.NewestRecordAsync(job.Name, live.Run.Machine, storeName, store, cancel);
            if (await NoRoomAsync(live, job, storeName, isHere ? takes : [], previous is null, cancel) is { } full)
            {
                live.Log(LogSeverity.Error, full);
                return new Made(storeName, null, full, null, FailureClass.StoreFull, true, NeverBegan: true);
            }
            live.Log(
                LogSeverity.Info,
                previous is null
                    ? $"{job.Name} to store {storeName}: the first copy, so everything is read"
                    : $"{job.Name} to store {storeName}: compared with copy {previous.Id}"
            );
            if (next is not null)
                live.Log(LogSeverity.Info, $"to store {storeName} goes {Words(next.Kind)} copy: {next.Why}");
            var order = new BackupOrder(CopyIds.New(clock.GetUtcNow()), job.Name, live.Run.Machine, [.. takes], job.LeavesOut, previous)
            {
                LeavesOutCaches = job.LeavesOutCaches,
                AllFileSystems = job.OtherFileSystems,
                Level = job.Compression,
                Streams = sources.Streams,
                StillAt = isHere ? [.. job.StillAt.Select(s => s with { From = RealPaths.Of(s.From) ?? s.From })] : job.StillAt,
            };
            using var over = isHere ? null : SourceOver(live);
            var target = store.Target(new CopyPlan(order.CopyId, next?.Kind ?? CopyKind.Full, below));
            var run =
                isHere ? new BackupRun(target, order, clock, live.Log) { Steps = desk.Runner }
                : over is not null ? new BackupRun(target, order with { Top = over.Top }, clock, live.Log)
                : null;
            figures = run?.Figures;
            await using var progress = new Timer(_ => Report(), null, TimeSpan.FromMilliseconds(250), TimeSpan.FromMilliseconds(250));
            var record = run is not null
                ? await run.RunAsync(cancel)
                : await remote.MakeAsync(
                    live,
                    charter.Charter.Stores[storeName],
                    store as PooledStore
                        ?? throw new RunFailedException(
                            FailureClass.UnsafePlace,
                            $"store {storeName} keeps plain archives, which no agent writes; give {job.Name} a store of another layout"
                        ),
                    order,
                    f => figures = f,
                    cancel
                );
            if (over is not null)
                live.Log(
                    LogSeverity.Info,
                    $"{SftpSource.NotCarried}{(over.Devices > 0 ? $"; {over.Devices} device nodes were left out" : "")}"
                );
            await copies.AddAsync(record, storeName, live.Run.Id, figures!);
            await shelves.SettleAfterRunAsync(storeName, CancellationToken.None);
            return new Made(storeName, record.Id, Say(figures!, record), figures) { Kind = record.Kind, AskedBy = asked };
        }
        catch (PlaceException e) when (!cancel.IsCancellationRequested)
        {
            return Failed(e.Message, BackupRun.ClassOf(e));
        }
        catch (StoreDamageException e)
        {
            return Failed(e.Message, FailureClass.DataDamaged);
        }
        catch (RunFailedException e)
            when (e.InnerException is StoreDamageException || (e.InnerException is PlaceException && !cancel.IsCancellationRequested))
        {
            return Failed(e.Message, e.Class);
        }
        finally
        {
            await rooms.GiveBackAsync(storeName, live.Run.Id);
            Report();
        }

        Made Failed(string message, FailureClass failure)
        {
            live.Log(LogSeverity.Error, $"store {storeName}: {message}");
            return new Made(storeName, null, message, figures, failure, true);
        }

        // Every store takes the same items; what is read, new and stored adds up over them.
        void Report()
        {
            if (figures is not { } f)
                return;
            var others = before.Select(b => b.Figures).OfType<RunFigures>().ToList();
            live.Report(
                new Progress(
                    Math.Max(f.Items, others.Select(o => o.Items).DefaultIfEmpty().Max()),
                    Math.Max(f.SelectedBytes + f.Moving, others.Select(o => o.SelectedBytes).DefaultIfEmpty().Max()),
                    f.ReadBytes + others.Sum(o => o.ReadBytes),
                    f.NewBytes + others.Sum(o => o.NewBytes),
                    f.StoredBytes + others.Sum(o => o.StoredBytes),
                    Math.Max(f.Skipped, others.Select(o => o.Skipped).DefaultIfEmpty().Max())
                )
            );
        }
    }

    /// <summary>
    /// Why the run does not fit into a store, by what it usually stores, or at first by the size of its source; null when it does, and then
    /// the room is promised to it.
    /// </summary>
    private async Task<string?> NoRoomAsync(
        LiveRun live,
        PlacedJob job,
        string storeName,
        string[] takes,
        bool first,
        CancellationToken cancel
    )
    {
        var declared = charter.Charter.Stores[storeName];
        if (declared.Capacity is null && !declared.HasReserve)
            return null;
        long expected = 0;
        await using (var db = await catalogue.CreateDbContextAsync(cancel))
        {
            var usual = await db
                .Copies.AsNoTracking()
                .Where(c => c.Job == job.Name && c.Machine == live.Run.Machine && c.Store == storeName && c.RunId > 0)
                .OrderByDescending(c => c.Taken)
                .Take(Bands.Looks)
                .Select(c => c.StoredBytes)
                .ToListAsync(cancel);
            if (usual.Count > 0)
                expected = Bands.Median(usual);
        }
        if (first)
        {
            var free = (await rooms.OfAsync(declared)).Free ?? long.MaxValue;
            expected = takes.Length == 0 ? 0 : SourceLook.Of(takes, job.LeavesOut, job.OtherFileSystems, Measures, free + 1)?.Bytes ?? 0;
        }
        return await rooms.PromiseAsync(declared, live.Run.Id, expected, cancel);
    }

    private async Task<RunEnding> EndAsync(LiveRun live, PlacedJob job, List<Made> made, CancellationToken cancel)
    {
        var words = made.Count == 1 ? made[0].Words : string.Join(". ", made.Select(m => $"Store {m.Store}: {m.Words}"));
        var doubt = await DoubtAsync(live, job, made, cancel);
        var ids = made.Select(m => m.CopyId).OfType<string>().ToList();
        if (made.Find(m => m.Failure is not null) is { } failed)
        {
            // Nothing was begun anywhere: the run was refused, not broken off.
            var outcome = made.TrueForAll(m => m.NeverBegan) ? Outcome.Refused : Outcome.Failed;
            var inDoubt = doubt.Length > 0 ? $"; what it made elsewhere is suspect: {string.Join("; ", doubt)}" : "";
            return new RunEnding(outcome, words + inDoubt, failed.Failure)
            {
                CopyIds = [.. ids],
                FailedStore = failed.StoreFailed ? failed.Store : null,
                Brief = doubt.Length > 0 ? string.Join("; ", doubt) : null,
            };
        }
        if (doubt.Length > 0)
            return new RunEnding(Outcome.Suspect, $"{string.Join("; ", doubt)}. {Sentence.Begin(words)}")
            {
                CopyIds = [.. ids],
                Brief = string.Join("; ", doubt),
            };
        return new RunEnding(made.Any(m => m.Figures!.Skipped > 0) ? Outcome.Warned : Outcome.Ok, words) { CopyIds = [.. ids] };
    }

    private async Task<string[]> DoubtAsync(LiveRun live, PlacedJob job, List<Made> made, CancellationToken cancel)
    {
        if (made.Find(m => m.CopyId is not null)?.Figures is not { } figures)
            return [];
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var good = await RunHistory.LastGoodAsync(db, live.Run, cancel);
        var reasons = Bands.Judge(job.Band, good, new RunMeasure(figures.Items, figures.SelectedBytes, live.Elapsed)).ToArray();
        if (reasons.Length == 0)
            return [];
        var doubt = string.Join("; ", reasons);
        foreach (var (store, id) in made.Where(m => m.CopyId is not null).Select(m => (m.Store, m.CopyId!)))
        {
            await db
                .Copies.Where(c => c.Id == id && c.Store == store)
                .ExecuteUpdateAsync(s => s.SetProperty(c => c.Doubt, doubt).SetProperty(c => c.NoteDue, true), CancellationToken.None);
            await copies.NoteAsync(store, [id]);
        }
        return reasons;
    }

    private static string Words(CopyKind kind) => kind == CopyKind.Incremental ? "an incremental" : $"a {Kebab.Of(kind)}";

    private static string Say(RunFigures f, CopyRecord copy)
    {
        var kind = copy.Kind is { } one ? $"{Kebab.Of(one)} " : "";
        var taken = $"{kind}copy {copy.Id}: {Counted.Of(f.Items, "item")}, {new ByteSize(f.SelectedBytes)} taken";
        var change =
            f.FilesRead == 0
                ? "nothing had changed"
                : $"{new ByteSize(f.ReadBytes)} read, {new ByteSize(f.NewBytes)} new, {new ByteSize(f.StoredBytes)} stored";
        var skipped = f.Skipped == 0 ? "" : $"; {f.Skipped} skipped or torn, named in the log";
        return $"{taken}; {change}{skipped}";
    }

    private static string Real(string path, LiveRun live)
    {
        var real = RealPaths.Of(path)
            ?? throw new RunFailedException(FailureClass.SourceUnreadable, $"{path} does not exist or cannot be reached");
        if (real != path)
            live.Log(LogSeverity.Info, $"{path} leads to {real}, which is taken");
        return real;
    }
}
