using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using NodaTime;

namespace IronKeep.Service.Runs;

/// <summary>One run's log while it is written. Never fails: a run must not be lost because its log cannot be kept.</summary>
public interface IRunLog : IDisposable
{
    void Write(LogSeverity severity, string text);
}

/// <summary>The logs of runs, readable while the run works.</summary>
public interface IRunLogs
{
    /// <summary>The log of a run, to be written.</summary>
    IRunLog Open(long runId);

    /// <summary>
    /// Lines from a position (the first line is 0) that are at least so severe, at most 1000 at once; Next is where the rest begins.
    /// </summary>
    Task<RunLogAnswer> ReadAsync(long runId, int from, LogSeverity least, CancellationToken cancel);

    /// <summary>Removes the logs of runs that were last written before an instant (UTC). The runs themselves stay.</summary>
    Task DropOlderThanAsync(Instant before, CancellationToken cancel);
}
