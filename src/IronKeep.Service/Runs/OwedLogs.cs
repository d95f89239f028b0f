using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Service.Machines;
using IronKeep.Stores.Sessions;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Runs;

/// <summary>Adds to the log of an interrupted run what was run after it at the next start of its machine's agent.</summary>
public sealed class OwedLogs(IDbContextFactory<KeepContext> catalogue, IRunLogs logs) : IOwedLogs
{
    private const int MostLines = 1000;

    /// <summary>A log that is as long takes no more.</summary>
    private const int LongestLog = 10_000;

    /// <inheritdoc/>
    public async Task NoteAsync(string machine, StepsOwedRequest said, CancellationToken cancel)
    {
        if (said.Lines.Count > MostLines)
            throw new ArrivalRefusedException(ArrivalFault.Wrong, "what was sent says more lines at once than is taken");
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var run = await db
            .Runs.AsNoTracking()
            .FirstOrDefaultAsync(r => r.Id == said.Run && r.Machine == machine && r.Kind == RunKind.Backup, cancel);
        if (run is null)
            return;
        if (run.State != RunState.Ended)
            throw new ArrivalRefusedException(ArrivalFault.Absent, $"run {run.Id} has not ended yet; say it again");
        if ((await logs.ReadAsync(run.Id, LongestLog, LogSeverity.Info, cancel)).Lines.Count > 0)
            return;
        using var log = logs.Open(run.Id);
        foreach (var line in said.Lines)
            log.Write(line.Severity, SaidLines.Plain(line.Text));
    }
}
