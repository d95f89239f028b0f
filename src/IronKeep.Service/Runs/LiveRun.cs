using IronKeep.Catalogue;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Service.Hearing;
using NodaTime;

namespace IronKeep.Service.Runs;

/// <summary>Why a run is being ended before its time.</summary>
public enum StopCause
{
    ServiceStops,
    Person,
    Limit,
    Lost,
}

/// <summary>A run at work: its row as it was at the start, its log, and its figures as they move.</summary>
public sealed class LiveRun(Run run, IRunLog log, TimeProvider clock, CancellationToken stopping) : IDisposable
{
    private const int RateWindowSeconds = 60;
    private readonly CancellationTokenSource cancelled = CancellationTokenSource.CreateLinkedTokenSource(stopping);
    private readonly TaskCompletionSource stopAsked = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private readonly Lock gate = new();
    private readonly long began = clock.GetTimestamp();
    private readonly Queue<(TimeSpan At, long Bytes)> samples = new();
    private volatile Progress progress = new(0, 0, 0, 0, 0, 0);
    private int pastLimit;
    private bool ended;

    public Run Run => run;
    public TimeProvider Clock => clock;
    public CancellationToken Token => cancelled.Token;
    public long? ExpectedItems { get; set; }
    public long? ExpectedBytes { get; set; }

    /// <summary>How long it has worked, by the steady clock: a clock that is set in the middle changes nothing.</summary>
    public Duration Elapsed => Duration.FromTimeSpan(clock.GetElapsedTime(began));

    /// <summary>After how long it has worked longer than it should; null for kinds without a limit.</summary>
    public Duration? Limit { get; set; }

    /// <summary>Whether it was given up because it hangs: it holds its job, and no place among those at work.</summary>
    public bool GivenUp { get; set; }

    /// <summary>Whether it is ended at the limit, because its job states one, or only told of.</summary>
    public bool EndsAtLimit { get; set; }

    public StopCause Cause { get; private set; }

    /// <summary>Completes when somebody has asked the run to end.</summary>
    public Task StopAsked => stopAsked.Task;

    public Progress Now => progress;

    /// <summary>Bytes a second over the last minute; null while nothing moves.</summary>
    public double? RecentRate
    {
        get
        {
            lock (gate)
            {
                if (samples.Count < 2)
                    return null;
                var (first, last) = (samples.Peek(), samples.Last());
                var seconds = (last.At - first.At).TotalSeconds;
                return seconds > 0 && last.Bytes > first.Bytes ? (last.Bytes - first.Bytes) / seconds : null;
            }
        }
    }

    public void Report(Progress now)
    {
        progress = now;
        lock (gate)
        {
            var at = clock.GetElapsedTime(began);
            samples.Enqueue((at, now.SelectedBytes));
            while (samples.Count > 2 && (at - samples.Peek().At).TotalSeconds > RateWindowSeconds)
                samples.Dequeue();
        }
    }

    public void Log(LogSeverity severity, string text) => log.Write(severity, text);

    /// <summary>True the first time it is found past its limit.</summary>
    public bool PassLimit() => Interlocked.Exchange(ref pastLimit, 1) == 0;

    public void Cancel() => Stop(StopCause.Person);

    public void TimeOut() => Stop(StopCause.Limit);

    /// <summary>It is no longer this worker's: whatever it does from here on counts for nothing.</summary>
    public void Lose() => Stop(StopCause.Lost);

    private void Stop(StopCause cause)
    {
        lock (gate)
        {
            if (ended || cancelled.IsCancellationRequested)
                return;
            Cause = cause;
        }
        try
        {
            cancelled.Cancel();
        }
        catch (ObjectDisposedException)
        {
            // It ended by itself at this very moment.
        }
        stopAsked.TrySetResult();
    }

    public void Dispose()
    {
        lock (gate)
            ended = true;
        cancelled.Dispose();
        log.Dispose();
    }
}

/// <summary>Figures of a run at one moment; bytes as in the API's run figures.</summary>
public sealed record Progress(long Items, long SelectedBytes, long ReadBytes, long NewBytes, long StoredBytes, long Skipped)
{
    public static Progress None { get; } = new(0, 0, 0, 0, 0, 0);
}
