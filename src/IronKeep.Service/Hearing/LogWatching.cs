using System.Collections.Concurrent;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using IronKeep.Following;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Workers;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Hearing;

/// <summary>
/// Follows the logs of watched jobs, once a second, in the service that leads. What is found is reported like any check-in; then the place
/// is kept from which to read on. What is read again after a crash has the same id, and counts once. A log on a disk that hangs keeps no
/// other waiting.
/// </summary>
public sealed class LogWatching(
    CharterInForce inForce,
    HearingDesk desk,
    SyslogSpool spool,
    UnreadLogs unread,
    HeardMachines heard,
    IDbContextFactory<KeepContext> catalogue,
    Leading leading,
    TimeProvider clock,
    ILogger<LogWatching> log
) : BackgroundService
{
    private static readonly TimeSpan Every = TimeSpan.FromMilliseconds(900);
    private readonly ConcurrentDictionary<(string Job, string Path), Followed> followed = new();
    private long term = -1;
    private Charter? wantedFor;
    private IReadOnlySet<string>? heardThere;
    private HashSet<(string Job, string Path)> lastWanted = [];
    private HashSet<(string Job, string Path)>? glances;
    private List<Folder> folders = [];

    /// <summary>The logs in one folder.</summary>
    private sealed class Folder(string path, (string Job, string Path)[] logs)
    {
        public string Path => path;
        public (string Job, string Path)[] Logs => logs;
        public Task Glancing { get; set; } = Task.CompletedTask;
    }

    private sealed class Followed(
        string job,
        string machine,
        LogFollower follower,
        string key,
        EvidenceSource source,
        LogRules rules,
        DateTimeZone zone,
        FollowState kept
    ) : IDisposable
    {
        public string Job => job;
        public string Machine => machine;
        public EvidenceSource Source => source;
        public LogFollower Follower => follower;
        public string Key => key;
        public LogRules Rules => rules;
        public DateTimeZone Zone => zone;
        public FollowState Kept { get; set; } = kept;

        /// <summary>What was told last; at first nobody knows what is open from before.</summary>
        public string? Problem { get; set; } = "not looked at yet";
        public Task Looking { get; set; } = Task.CompletedTask;

        /// <summary>The glance at its folder that comes by it.</summary>
        public Task Glance { get; set; } = Task.CompletedTask;
        public bool IsBusy => !Looking.IsCompleted || !Glance.IsCompleted;

        public void Dispose() => follower.Dispose();
    }

    /// <summary>How the loop comes round.</summary>
    public LoopRounds Rounds { get; } = new(clock);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                if (leading.IsLeading)
                    await LookAsync(stoppingToken);
                Rounds.Came();
            }
            catch (Exception e) when (!stoppingToken.IsCancellationRequested)
            {
                Rounds.Failed(e);
                log.LogError(e, "Following logs failed and is tried again");
            }
            await Task.Delay(Every, stoppingToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    /// <summary>One look at every log that is followed.</summary>
    public async Task LookAsync(CancellationToken cancel)
    {
        // Another may have led, and read on, in between.
        if (term != leading.Term)
        {
            foreach (var (at, one) in followed)
                if (!one.IsBusy && followed.TryRemove(at, out _))
                    one.Dispose();
            term = leading.Term;
        }
        var wanted = await WantedAsync(cancel);
        foreach (var (at, one) in followed.Where(f => !wanted.Contains(f.Key)))
            if (!one.IsBusy && followed.TryRemove(at, out _))
                one.Dispose();
        if (!ReferenceEquals(wanted, glances))
        {
            var before = folders.ToDictionary(f => f.Path, f => f.Glancing);
            folders =
            [
                .. wanted
                    .GroupBy(w => Path.GetDirectoryName(w.Path)!)
                    .Select(g => new Folder(g.Key, [.. g]) { Glancing = before.GetValueOrDefault(g.Key, Task.CompletedTask) }),
            ];
            glances = wanted;
        }
        var looks = new List<Task>();
        foreach (var folder in folders)
        {
            // One that hangs is left alone until it lets go, be it a folder or a log in it.
            if (!folder.Glancing.IsCompleted)
                continue;
            var glance = Task.Run(() => Glance(folder), cancel);
            folder.Glancing = glance;
            foreach (var at in folder.Logs)
                if (followed.TryGetValue(at, out var one))
                    one.Glance = glance;
            looks.Add(LooksOfAsync(glance));
        }
        await Task.WhenAny(Task.WhenAll(looks), Task.Delay(TimeSpan.FromSeconds(5), cancel));

        static async Task LooksOfAsync(Task<List<Task>> glance) => await Task.WhenAll(await glance);
    }

    /// <summary>
    /// Most logs are as they were, and to know that is quick: so one task asks for all of a folder, and only what moved gets one of its
    /// own.
    /// </summary>
    private List<Task> Glance(Folder folder)
    {
        var (now, looks) = (clock.Now(), new List<Task>());
        foreach (var at in folder.Logs)
        {
            if (!followed.TryGetValue(at, out var one) || !one.Looking.IsCompleted || (one.Problem is null && IsStill(one, now)))
                continue;
            looks.Add(one.Looking = Task.Run(() => TryLookAsync(at.Job, at.Path, one)));
        }
        return looks;
    }

    private static bool IsStill(Followed one, Instant now)
    {
        try
        {
            return one.Follower.IsStill(now);
        }
        catch (Exception)
        {
            // The look says what is wrong.
            return false;
        }
    }

    private async Task<HashSet<(string Job, string Path)>> WantedAsync(CancellationToken cancel)
    {
        var (charter, there) = (inForce.Charter, await heard.NowAsync(cancel));
        if (ReferenceEquals(charter, wantedFor) && ReferenceEquals(there, heardThere) && followed.Count == lastWanted.Count)
            return lastWanted;
        var wanted = new HashSet<(string Job, string Path)>();
        foreach (var job in charter.Placed.All.Where(j => j.Watched))
        foreach (var (path, source) in Paths(job, there))
        {
            wanted.Add((job.Key, path));
            var (rules, zone) = (charter.LogRules[job.LogRules!], charter.ZoneOf(job));
            if (followed.TryGetValue((job.Key, path), out var known))
            {
                if ((known.Rules.Equals(rules) && known.Zone.Equals(zone)) || known.IsBusy)
                    continue;
                known.Dispose();
            }
            var key = $"log {job.Key} {path}";
            await using var db = await catalogue.CreateDbContextAsync(cancel);
            var kept = await db.KeptValues.AsNoTracking().FirstOrDefaultAsync(k => k.Key == key, cancel) is { } value
                ? JsonSerializer.Deserialize<FollowState>(value.Value)!
                : FollowState.Empty;
            followed[(job.Key, path)] = new Followed(
                job.Name,
                job.Machine,
                new LogFollower(path, rules, zone, kept),
                key,
                source,
                rules,
                zone,
                kept
            );
        }
        // One that hangs keeps what it was until it lets go, and is asked for again.
        (wantedFor, heardThere, lastWanted) = (followed.Values.All(f => !f.IsBusy) ? charter : null, there, wanted);
        return wanted;
    }

    /// <summary>
    /// The logs of a job, unless the agent of its machine follows them there, and the file into which its lines of syslog are written.
    /// </summary>
    private IEnumerable<(string Path, EvidenceSource Source)> Paths(PlacedJob job, IReadOnlySet<string> there)
    {
        if (job.HeardBy.Contains(EvidenceSource.Log) && !there.Contains(job.Machine))
            foreach (var path in job.Logs.Where(p => IsOfOne(job, p)))
                yield return (path, EvidenceSource.Log);
        if (job.HeardBy.Contains(EvidenceSource.Syslog))
            yield return (spool.PathOf(job.Key), EvidenceSource.Syslog);
    }

    /// <summary>
    /// Whether a file on this machine is the log of the job on that machine: of several that name it alike it is that of the service's own.
    /// </summary>
    private bool IsOfOne(PlacedJob job, string path) =>
        !job.IsOnSeveral
        || job.Machine == inForce.Charter.Own
        || !inForce.Charter.Placed.Named(job.Name).Any(j => j.Machine != job.Machine && j.Logs.Contains(path));

    /// <summary>What could not be taken is read again: another follower begins where the place was kept last.</summary>
    private async Task TryLookAsync(string job, string path, Followed one)
    {
        try
        {
            await LookAsync(job, path, one);
        }
        catch (Exception e)
        {
            log.LogError(e, "What the log {Path} of job {Job} says could not be taken; it is read again", path, job);
            if (followed.TryRemove(KeyValuePair.Create((job, path), one)))
                one.Dispose();
        }
    }

    private async Task LookAsync(string job, string path, Followed one)
    {
        var now = clock.Now();
        var looked = one.Follower.Look(now);
        if (looked.Runs.Count > 0)
            await desk.TakeAllAsync([.. looked.Runs.Select(r => ReportOf(one, path, r, now))]);
        // Kept after what it stands for: what is told twice counts once.
        if (looked.IsTouched && one.Follower.State is var state && !Same(state, one.Kept))
            await KeepAsync(one, state);
        var problem = looked.Problems.Count == 0 ? null : string.Join("; ", looked.Problems);
        if (problem == one.Problem)
            return;
        await unread.TellAsync(one.Job, one.Machine, problem, isThere: false);
        one.Problem = problem;
    }

    private static bool Same(FollowState a, FollowState b) =>
        a.Streams.Count == b.Streams.Count && a.Streams.All(s => b.Streams.TryGetValue(s.Key, out var other) && s.Value.Equals(other));

    private async Task KeepAsync(Followed one, FollowState state)
    {
        await using var db = await catalogue.CreateDbContextAsync();
        await using var change = await leading.BeginAsync(db, CancellationToken.None);
        var text = JsonSerializer.Serialize(state);
        if (await db.KeptValues.Where(k => k.Key == one.Key).ExecuteUpdateAsync(s => s.SetProperty(k => k.Value, text)) == 0)
        {
            db.KeptValues.Add(new KeptValue { Key = one.Key, Value = text });
            await db.SaveChangesAsync();
        }
        await change.CommitAsync(CancellationToken.None);
        one.Kept = state;
    }

    private static Report ReportOf(Followed one, string path, FoundRun found, Instant now)
    {
        var (run, source, rules) = (found.Run, one.Source, one.Rules);
        // A line is not written before it is: a clock that is ahead, or a year that was guessed, is taken as now.
        var (began, ended) = (Earlier(run.Began), Earlier(run.Ended ?? run.LastTime));
        return new Report(one.Job, one.Machine, source, found.IsOver ? CheckInState.Ended : CheckInState.Started, now)
        {
            // By the job alone, so that one that comes to be on several machines tells nothing of before again.
            Id = $"log {one.Job} {path} {found.Id}{(found.IsOver ? "" : " begin")}",
            At = found.IsOver ? ended ?? began : began,
            Began = found.IsOver ? began : null,
            Log = found.IsOver ? found.Text : null,
            LogCut = found.IsCut,
            Read = !found.IsOver ? null : ReadLog.OfFound(run, rules),
        };

        Instant? Earlier(Instant? at) => at is { } time ? Instant.Min(time, now) : null;
    }
}
