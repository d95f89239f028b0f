using IronKeep.Runs;
using IronKeep.Service.Catalogue;

namespace IronKeep.Service.Runs;

/// <summary>A run at work: its row as it was at the start, its log, and its figures as they move.</summary>
public sealed class LiveRun(Run run, RunLogFile log, TimeProvider clock, CancellationToken stopping) : IDisposable
{
    private readonly CancellationTokenSource cancelled = CancellationTokenSource.CreateLinkedTokenSource(stopping);
    private volatile Progress progress = new(0, 0, 0, 0, 0, 0);

    public Run Run => run;
    public TimeProvider Clock => clock;
    public CancellationToken Token => cancelled.Token;
    public long? ExpectedItems { get; set; }
    public long? ExpectedBytes { get; set; }

    /// <summary>Whether a person asked to end it, as against the service stopping.</summary>
    public bool CancelledByPerson { get; private set; }

    public Progress Now => progress;

    public void Report(Progress now) => progress = now;

    public void Log(LogSeverity severity, string text) => log.Write(severity, text);

    public void Cancel()
    {
        CancelledByPerson = true;
        cancelled.Cancel();
    }

    public void Dispose()
    {
        cancelled.Dispose();
        log.Dispose();
    }
}

/// <summary>Figures of a run at one moment; bytes as in the API's run figures.</summary>
public sealed record Progress(long Items, long SelectedBytes, long ReadBytes, long NewBytes, long StoredBytes, long Skipped);
