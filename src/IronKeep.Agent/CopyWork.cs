using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Backups;
using IronKeep.Runs.Sending;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;

namespace IronKeep.Agent;

/// <summary>
/// Carries out one order: makes the copy over the line, says how it goes each second, and gives up when the service says so.
/// </summary>
internal sealed class CopyWork(ServiceLine line, string folder, CopyOrder order)
{
    private static readonly TimeSpan ReportsEvery = TimeSpan.FromSeconds(1);

    // A report must fit into what the service takes at once, whatever the names of files are.
    private const int MostLines = 500,
        MostLetters = 100_000,
        MostText = 4000,
        MostWaiting = 20_000;
    private readonly Lock gate = new();
    private readonly Queue<CopyLine> lines = [];
    private RunFigures figures = new();
    private long first;

    /// <summary>In one sentence how it ended.</summary>
    public async Task<string> DoAsync(CancellationToken stopping)
    {
        using var giveUp = CancellationTokenSource.CreateLinkedTokenSource(stopping);
        using var ended = new CancellationTokenSource();
        var reporting = ReportAsync(giveUp, ended.Token);
        try
        {
            var record = await MakeAsync(giveUp.Token);
            return $"run {order.Run}, {order.Job} to store {order.Store}: copy {record.Id}";
        }
        catch (LineException e)
        {
            if (e.Fault is LineFault.Wrong or LineFault.Away)
                await TellAsync(FailureClass.Unknown, e.Message);
            return $"run {order.Run}, {order.Job}: {e.Message}";
        }
        catch (OperationCanceledException)
        {
            if (stopping.IsCancellationRequested)
                await TellAsync(
                    FailureClass.Interrupted,
                    "the agent was stopped in the middle of it; what arrived is used by the next run"
                );
            return $"run {order.Run}, {order.Job}: given up";
        }
        catch (Exception e) when (e is RunFailedException or ArrivalRefusedException or IOException or UnauthorizedAccessException)
        {
            var failure = (e as RunFailedException)?.Class ?? FailureClass.Unknown;
            await TellAsync(failure, e.Message);
            return $"run {order.Run}, {order.Job} failed: {e.Message}";
        }
        finally
        {
            await ended.CancelAsync();
            await reporting;
        }
    }

    private async Task<CopyRecord> MakeAsync(CancellationToken cancel)
    {
        // Names become folders here.
        if (!CharterReader.IsName(order.Store) || !CharterReader.IsName(order.Job))
            throw new RunFailedException(FailureClass.Unknown, "the order names a store or job that no charter could");
        using var memory = new SendingMemory(Path.Combine(folder, order.Store, order.Job));
        var takes = order.Takes.Select(Real).Distinct().ToArray();
        try
        {
            return await OnceAsync(memory, takes, false, cancel);
        }
        catch (ArrivalRefusedException e) when (e.Fault == ArrivalFault.Absent)
        {
            Log(LogSeverity.Info, $"{e.Message}; everything is asked for, and what is not there is sent");
            return await OnceAsync(memory, takes, true, cancel);
        }
    }

    private Task<CopyRecord> OnceAsync(SendingMemory memory, string[] takes, bool inDoubt, CancellationToken cancel)
    {
        var backup = new BackupOrder(order.CopyId, order.Job, "", [.. takes], [.. order.LeavesOut], memory.Newest)
        {
            LeavesOutCaches = order.LeavesOutCaches,
            AllFileSystems = order.OtherFileSystems,
            Level = order.Compression,
        };
        var target = new SendingTarget(new CopyLink(line, order, Report, cancel), memory, memory.Newest, inDoubt);
        var run = new BackupRun(target, backup, TimeProvider.System, Log);
        figures = run.Figures;
        return run.RunAsync(cancel);
    }

    private string Real(string path)
    {
        var real = RealPaths.Of(path)
            ?? throw new RunFailedException(FailureClass.SourceUnreadable, $"{path} does not exist or cannot be reached");
        if (real != path)
            Log(LogSeverity.Info, $"{path} leads to {real}, which is taken");
        return real;
    }

    private void Log(LogSeverity severity, string text)
    {
        lock (gate)
            if (lines.Count < MostWaiting)
                lines.Enqueue(new CopyLine(severity, text.Length > MostText ? text[..MostText] + "…" : text));
            else if (lines.Count == MostWaiting)
                lines.Enqueue(
                    new CopyLine(LogSeverity.Warning, $"more than {MostWaiting} lines waited for the line; some are left out here")
                );
    }

    /// <summary>What is to be said now; lines stay until they were taken.</summary>
    private CopyReportRequest Report()
    {
        var f = figures.Say();
        var letters = 0;
        lock (gate)
            return new CopyReportRequest(
                new CopyFigures(
                    f.Items,
                    f.SelectedBytes,
                    f.ReadBytes,
                    f.Skipped,
                    f.FilesRead,
                    f.Known,
                    f.Altered,
                    f.Gone,
                    f.Added,
                    f.Moving
                ),
                first,
                [.. lines.Take(MostLines).TakeWhile(l => (letters += l.Text.Length) <= MostLetters)]
            );
    }

    private async Task ReportAsync(CancellationTokenSource giveUp, CancellationToken ended)
    {
        while (!ended.IsCancellationRequested)
        {
            await Task.Delay(ReportsEvery, ended).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            if (ended.IsCancellationRequested)
                return;
            try
            {
                var report = Report();
                var answer = await line.PostAsync<CopyReportRequest, CopyReportAnswer>($"copies/{order.Token}/report", report, ended);
                lock (gate)
                {
                    first += report.Lines.Count;
                    for (var i = 0; i < report.Lines.Count; i++)
                        lines.Dequeue();
                }
                if (answer.Stop)
                    await giveUp.CancelAsync();
            }
            catch (LineException e) when (e.Fault is LineFault.Over or LineFault.Refused)
            {
                await giveUp.CancelAsync();
                return;
            }
            catch (Exception e) when (e is LineException or OperationCanceledException)
            {
                // Said with the next report.
            }
        }
    }

    private async Task TellAsync(FailureClass failure, string message)
    {
        try
        {
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(10));
            await line.PostAsync<CopyFailRequest, CopyReportAnswer>(
                $"copies/{order.Token}/fail",
                new CopyFailRequest(Report(), failure, message),
                limit.Token
            );
        }
        catch (Exception e) when (e is LineException or OperationCanceledException)
        {
            // The service notices by the silence.
        }
    }
}
