using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Backups;
using IronKeep.Runs.Sending;
using IronKeep.Runs.Steps;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;

namespace IronKeep.Agent;

/// <summary>
/// Carries out one order: makes the copy over the line, says how it goes each second, and gives up when the service says so.
/// </summary>
internal sealed class CopyWork
{
    private readonly ServiceLine line;
    private readonly string folder;
    private readonly StepRunner steps;
    private readonly CopyOrder order;
    private readonly WorkReports reports;
    private RunFigures figures = new();

    public CopyWork(ServiceLine line, string folder, StepRunner steps, CopyOrder order)
    {
        (this.line, this.folder, this.steps, this.order) = (line, folder, steps, order);
        reports = new WorkReports(line, $"copies/{order.Token}", Figures);
    }

    /// <summary>In one sentence how it ended.</summary>
    public Task<string> DoAsync(CancellationToken stopping) =>
        reports.CarryOutAsync(
            $"run {order.Run}, {order.Job} to store {order.Store}",
            async cancel => $"copy {(await MakeAsync(cancel)).Id}",
            e =>
                e as RunFailedException
                ?? (
                    e is ArrivalRefusedException or IOException or UnauthorizedAccessException
                        ? new RunFailedException(FailureClass.Unknown, e.Message, e)
                        : null
                ),
            "what arrived is used by the next run",
            stopping
        );

    private async Task<CopyRecord> MakeAsync(CancellationToken cancel)
    {
        // Names become folders here.
        if (
            !CharterReader.IsName(order.Store)
            || !CharterReader.IsName(order.Job)
            || (order.Streams ?? []).Any(s => !CharterReader.IsName(s.Step.Name) || s.KeepsAs.Contains('/', StringComparison.Ordinal))
        )
            throw new RunFailedException(FailureClass.Unknown, "the order names a store or job that no charter could");
        using var memory = new SendingMemory(Path.Combine(folder, order.Store, order.Job));
        var takes = order.Takes.Select(Real).Distinct().ToArray();
        try
        {
            return await OnceAsync(memory, takes, false, cancel);
        }
        catch (ArrivalRefusedException e) when (e.Fault == ArrivalFault.Absent)
        {
            reports.Log(LogSeverity.Info, $"{e.Message}; everything is asked for, and what is not there is sent");
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
            StillAt = [.. (order.StillAt ?? []).Select(Still)],
            Streams = [.. (order.Streams ?? []).Select(s => new StreamSource(StepsWork.Step(s.Step), s.KeepsAs))],
        };
        var target = new SendingTarget(
            new CopyLink(line, order, reports.Pace, () => reports.Last(cancel), cancel),
            memory,
            memory.Newest,
            inDoubt
        );
        var run = new BackupRun(target, backup, TimeProvider.System, reports.Log) { Steps = steps };
        figures = run.Figures;
        return run.RunAsync(cancel);
    }

    private static StillFolder Still(string words)
    {
        var (folder, problem) = StillFolder.Read(words);
        if (folder is null)
            throw new RunFailedException(FailureClass.Unknown, $"the order names a moment that no charter could: {problem!.Message}");
        return folder with { From = RealPaths.Of(folder.From) ?? folder.From };
    }

    private string Real(string path)
    {
        var real = RealPaths.Of(path)
            ?? throw new RunFailedException(FailureClass.SourceUnreadable, $"{path} does not exist or cannot be reached");
        if (real != path)
            reports.Log(LogSeverity.Info, $"{path} leads to {real}, which is taken");
        return real;
    }

    private CopyFigures Figures()
    {
        var f = figures.Say();
        return new CopyFigures(
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
        );
    }
}
