using System.Collections.Immutable;
using System.Text.Json;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Stores.Posix;

namespace IronKeep.Runs.Steps;

/// <summary>
/// A service that a job stops now and then, and that is to be up else: what says so, what starts it, and how often at most.
/// </summary>
public sealed record KeptService(string Job, RunStep Up, RunStep Start, int Times, TimeSpan Within);

/// <summary>
/// Keeps services of this machine up: asks whether they are, and starts what is down again, at most so often, and never while a run that
/// stopped it on purpose is at work. When it started what is on the disk, so that a start of ours does not begin the count anew. Source:
/// docs/semantics.md, section 2 (Planned runs, lateness, catch-up).
/// </summary>
public sealed class ServiceWatch(StepRunner runner, OwedSteps notes, string file, TimeProvider clock, Action<string> say)
{
    private static readonly TimeSpan LooksEvery = TimeSpan.FromMinutes(1);
    private TaskCompletionSource changed = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly Lock door = new();
    private ImmutableArray<KeptService> kept = [];
    private ImmutableDictionary<string, ServiceStanding> standings = ImmutableDictionary<string, ServiceStanding>.Empty;
    private Dictionary<string, List<DateTimeOffset>>? starts;

    /// <summary>How they stand, as last seen.</summary>
    public IReadOnlyList<ServiceStanding> Now
    {
        get
        {
            lock (door)
                return [.. standings.Values.OrderBy(s => s.Job, StringComparer.Ordinal)];
        }
    }

    /// <summary>What is to be kept up from now on.</summary>
    public void Keep(IEnumerable<KeptService> services)
    {
        lock (door)
        {
            kept = [.. services];
            standings = standings.RemoveRange(standings.Keys.Except(kept.Select(k => k.Job)));
            changed.TrySetResult();
        }
    }

    /// <summary>Looks now, and then each minute (real time) and whenever there is something else to keep up, until cancelled.</summary>
    public async Task RunAsync(CancellationToken cancel)
    {
        while (!cancel.IsCancellationRequested)
        {
            Task next;
            lock (door)
            {
                if (changed.Task.IsCompleted)
                    changed = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
                next = changed.Task;
            }
            await LookAsync(cancel);
            await Task.WhenAny(next, Task.Delay(LooksEvery, cancel));
        }
    }

    /// <summary>One look at all of them, at once: one that hangs must not keep the others waiting.</summary>
    public async Task LookAsync(CancellationToken cancel)
    {
        ImmutableArray<KeptService> now;
        lock (door)
            now = kept;
        await Task.WhenAll(now.Select(s => LookAtAsync(s, cancel)));
    }

    private async Task LookAtAsync(KeptService service, CancellationToken cancel)
    {
        try
        {
            if (notes.IsOwed(service.Job))
                return;
            var (ran, problem) = await AskAsync(service, cancel);
            // A run may have stopped it on purpose at this very moment.
            if (ran && problem is not null && !notes.IsOwed(service.Job))
                await StartAsync(service, problem, cancel);
            else if (!ran || problem is null)
                Stand(service, ran ? true : null, ran ? null : $"step {service.Up.Name}, which says whether it is up, {problem}");
        }
        catch (OperationCanceledException)
        {
            // The next start looks again.
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            Stand(service, null, $"it is not started: when that was cannot be noted on the disk ({e.Message})");
        }
    }

    private Task<(bool Ran, string? Problem)> AskAsync(KeptService service, CancellationToken cancel) =>
        runner.TryAsync(service.Up, Surroundings(service), (_, _) => { }, cancel);

    private async Task StartAsync(KeptService service, string down, CancellationToken cancel)
    {
        var now = clock.GetUtcNow();
        // A clock that was set back must not free the count for ever, nor hold it.
        var lately = StartsOf(service).Where(s => s <= now && now - s < service.Within).ToList();
        if (lately.Count >= service.Times)
        {
            Stand(
                service,
                false,
                $"it was started {Counted.Of(lately.Count, "time")} within {Words(service.Within)} and is down again; it is not started "
                    + $"before {lately[0] + service.Within:yyyy-MM-dd HH:mm'Z'}"
            );
            return;
        }
        await notes.QuietlyAsync(
            async () =>
            {
                if (notes.IsOwed(service.Job))
                    return;
                Note(service, [.. lately, now]);
                say($"Service of job {service.Job} is down (step {service.Up.Name} {down}); it is started again");
                var problem = await runner.RunAsync(service.Start, Surroundings(service), (_, _) => { }, cancel);
                var (ran, still) = await AskAsync(service, cancel);
                var up = ran && still is null;
                Stand(
                    service,
                    up,
                    up ? null
                        : problem is not null ? $"step {service.Start.Name}, which starts it, {problem}"
                        : $"step {service.Start.Name} was run, and step {service.Up.Name} still {still}"
                );
                say($"Service of job {service.Job}: {(up ? "it is up again" : "it is still down")}");
            },
            cancel
        );
    }

    private static string Words(TimeSpan span) =>
        span.TotalMinutes % 60 == 0 ? Counted.Of((long)span.TotalHours, "hour") : Counted.Of((long)span.TotalMinutes, "minute");

    private static Dictionary<string, string> Surroundings(KeptService service) => new() { ["IRONKEEP_JOB"] = service.Job };

    private void Stand(KeptService service, bool? up, string? problem)
    {
        lock (door)
        {
            if (!kept.Contains(service))
                return;
            var now = clock.GetUtcNow();
            var before = standings.GetValueOrDefault(service.Job);
            standings = standings.SetItem(
                service.Job,
                new ServiceStanding(
                    service.Job,
                    up,
                    before is not null && before.Up == up ? before.Since : now,
                    [.. StartsOf(service)],
                    problem
                )
            );
        }
    }

    private List<DateTimeOffset> StartsOf(KeptService service)
    {
        lock (door)
            return (starts ??= Read()).GetValueOrDefault(service.Job) ?? [];
    }

    private void Note(KeptService service, List<DateTimeOffset> all)
    {
        lock (door)
        {
            var next = new Dictionary<string, List<DateTimeOffset>>(starts ??= Read()) { [service.Job] = all };
            DurableFile.Write(file, JsonSerializer.Serialize(next, StepContext.Default.DictionaryStringListDateTimeOffset));
            starts = next;
        }
    }

    /// <summary>A note that cannot be read counts as none: starting once more is the lesser harm.</summary>
    private Dictionary<string, List<DateTimeOffset>> Read()
    {
        try
        {
            return File.Exists(file)
                ? JsonSerializer.Deserialize(File.ReadAllText(file), StepContext.Default.DictionaryStringListDateTimeOffset) ?? []
                : [];
        }
        catch (Exception e) when (e is JsonException or IOException or UnauthorizedAccessException)
        {
            say($"{file}, which says when services were started, cannot be read ({e.Message}); it is begun anew");
            return [];
        }
    }
}
