using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using IronKeep.Following;
using IronKeep.Stores.Posix;
using IronKeep.Yaml;
using NodaTime;

namespace IronKeep.Agent.Hearing;

/// <summary>
/// A log's place on the disk: up to where it was read, and a mark of this following, so that one that begins anew gives no id twice.
/// </summary>
internal sealed record KeptPlace(string Mark, FollowState State);

/// <summary>
/// Follows the logs of this machine's watched jobs, whether or not the service is there. What is found is kept to be told; then the place
/// is, from which to read on. A log on a disk that hangs keeps no other waiting.
/// </summary>
internal sealed class HeardLogs(HeardReports reports, string folder, TextWriter log)
{
    /// <summary>So many logs of one machine are followed, and no more.</summary>
    private const int Most = 2000;
    private readonly ConcurrentDictionary<(string Job, string Path), Followed> followed = new();
    private readonly ConcurrentDictionary<(string Job, string Path), string> problems = new();
    private volatile IReadOnlyList<HeardJob> jobs = [];
    private readonly Dictionary<string, string?> told = [];
    private volatile bool isOver;

    private sealed class Followed(HeardJob job, LogFollower follower, LogRules rules, KeptPlace kept, bool isNew, string file) : IDisposable
    {
        public HeardJob Job => job;
        public LogFollower Follower => follower;
        public LogRules Rules => rules;
        public KeptPlace Kept { get; set; } = kept;
        public bool IsNew => isNew;
        public string File => file;
        public Task Looking { get; set; } = Task.CompletedTask;

        public void Dispose() => follower.Dispose();
    }

    /// <summary>What is to be followed from now on.</summary>
    public void Take(HeardJobs? given)
    {
        jobs = given?.Jobs ?? [];
        lock (told)
            foreach (var job in told.Keys.Except(jobs.Select(j => j.Job)).ToList())
                told.Remove(job);
    }

    /// <summary>What the service is to be told of logs that are not heard: each change once.</summary>
    public IReadOnlyList<HeardProblem> Problems()
    {
        var changed = new List<HeardProblem>();
        lock (told)
            foreach (var job in jobs.Where(j => j.Logs.Count > 0).Select(j => j.Job))
            {
                var now = problems
                    .Where(p => p.Key.Job == job)
                    .OrderBy(p => p.Key.Path, StringComparer.Ordinal)
                    .Select(p => p.Value)
                    .ToList();
                var problem = now.Count == 0 ? null : string.Join("; ", now);
                if (!told.TryGetValue(job, out var before) || before != problem)
                    changed.Add(new HeardProblem(job, problem));
            }
        return changed;
    }

    /// <summary>The service knows these now.</summary>
    public void Told(IEnumerable<HeardProblem> known)
    {
        lock (told)
            foreach (var problem in known)
                told[problem.Job] = problem.Problem;
    }

    /// <summary>One look at each log that nobody is looking at; returns when all have ended, or after some seconds.</summary>
    public async Task LookAsync(CancellationToken cancel)
    {
        Begin();
        if (isOver)
            return;
        var looks = new List<Task>();
        foreach (var (at, one) in followed.Where(f => f.Value.Looking.IsCompleted))
            looks.Add(one.Looking = Task.Run(() => Look(at, one), cancel));
        await Task.WhenAny(Task.WhenAll(looks), Task.Delay(TimeSpan.FromSeconds(5), cancel));
    }

    private void Begin()
    {
        var wanted = jobs.SelectMany(j => j.Logs.Select(path => (j.Job, path, Of: j)))
            .Take(Most)
            .ToDictionary(w => (w.Job, w.path), w => w.Of);
        foreach (var (at, one) in followed)
            if ((!wanted.TryGetValue(at, out var job) || !IsSame(job, one.Job)) && one.Looking.IsCompleted && followed.TryRemove(at, out _))
            {
                one.Dispose();
                problems.TryRemove(at, out _);
            }
        foreach (var (at, job) in wanted.Where(w => !followed.ContainsKey(w.Key)))
        {
            try
            {
                followed[at] = Follow(job, at.path);
                problems.TryRemove(at, out _);
            }
            catch (Exception e) when (e is InvalidDataException or IOException or UnauthorizedAccessException)
            {
                problems[at] = e.Message;
            }
        }
    }

    private static bool IsSame(HeardJob a, HeardJob b) => a.Rules == b.Rules && a.Zone == b.Zone;

    private Followed Follow(HeardJob job, string path)
    {
        if (!Path.IsPathFullyQualified(path))
            throw new InvalidDataException($"{path} is no whole path");
        var (root, problem) = CharterYaml.ReadNodes(job.Rules);
        if (root is null || LogRulesReader.Read(root, job.Job).Rules is not { } rules)
            throw new InvalidDataException(
                $"this agent does not understand its rules{(problem is null ? "" : $": {problem.Message}")}; it may be too old"
            );
        var zone = DateTimeZoneProviders.Tzdb.GetZoneOrNull(job.Zone) ?? throw new InvalidDataException($"{job.Zone} is no zone here");
        var file = Path.Combine(folder, Hash($"{job.Job}\n{path}") + ".json");
        var kept = Kept(file);
        return new Followed(
            job,
            new LogFollower(path, rules, zone, kept?.State ?? FollowState.Empty),
            rules,
            kept ?? new KeptPlace(Guid.NewGuid().ToString("n"), FollowState.Empty),
            kept is null,
            file
        );
    }

    private KeptPlace? Kept(string file)
    {
        try
        {
            return File.Exists(file) ? AgentJson.Read<KeptPlace>(File.ReadAllText(file)) : null;
        }
        catch (JsonException e)
        {
            log.WriteLine($"{file} says up to where a log was read, and is damaged ({e.Message}); the log is read anew");
            return null;
        }
    }

    private void Look((string Job, string Path) at, Followed one)
    {
        try
        {
            var now = SystemClock.Instance.GetCurrentInstant();
            // What cannot be kept stays in the log.
            if (reports.IsFull || (!problems.ContainsKey(at) && one.Follower.IsStill(now)))
                return;
            var looked = one.Follower.Look(now);
            foreach (var found in looked.Runs.Where(r => !IsKnown(one, r.Run)))
                reports.Put(Report(at, one, found));
            if (looked.IsTouched)
                Keep(one);
            if (looked.Problems.Count == 0)
                problems.TryRemove(at, out _);
            else
                problems[at] = string.Join("; ", looked.Problems);
        }
        catch (Exception e) when (e is not OperationCanceledException)
        {
            // Another follower begins where the place was kept last.
            problems[at] = $"what it says cannot be kept, and is read again: {e.Message}";
            if (followed.TryRemove(KeyValuePair.Create(at, one)))
                one.Dispose();
        }
    }

    /// <summary>A log that is read anew tells of runs that the service has heard of before.</summary>
    private static bool IsKnown(Followed one, LogRun run) =>
        one is { IsNew: true, Job.HeardUntil: { } until }
        && (run.Ended ?? run.LastTime ?? run.Began) is { } at
        && at <= Instant.FromDateTimeOffset(until);

    private void Keep(Followed one)
    {
        var state = one.Follower.State;
        var place = one.Kept with { State = state };
        Directory.CreateDirectory(folder, OwnFiles.Folder);
        DurableFile.Write(one.File, AgentJson.Write(place));
        one.Kept = place;
    }

    private static HeardReport Report((string Job, string Path) at, Followed one, FoundRun found)
    {
        var run = found.Run;
        var (began, ended) = (run.Began?.ToDateTimeOffset(), (run.Ended ?? run.LastTime)?.ToDateTimeOffset());
        return new HeardReport(
            at.Job,
            EvidenceSource.Log,
            new CheckInRequest(found.IsOver ? CheckInState.Ended : CheckInState.Started)
            {
                Id = Hash($"{one.Kept.Mark} {at.Path} {found.Id}{(found.IsOver ? "" : " begin")}"),
                At = found.IsOver ? ended ?? began : began,
                Began = found.IsOver ? began : null,
                Log = found.IsOver ? found.Text : null,
                LogCut = found.IsCut,
                Read = found.IsOver ? ReadLog.OfFound(run, one.Rules) : null,
            }
        );
    }

    private static string Hash(string text) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)).AsSpan(0, 20));

    /// <summary>Lets go of all logs; nothing is looked at from here on.</summary>
    public void End()
    {
        isOver = true;
        foreach (var (at, one) in followed)
            if (one.Looking.IsCompleted && followed.TryRemove(at, out _))
                one.Dispose();
    }
}
