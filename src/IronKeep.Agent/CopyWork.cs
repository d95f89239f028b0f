using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Backups;
using IronKeep.Runs.Sending;
using IronKeep.Runs.Steps;
using IronKeep.Stores;
using IronKeep.Stores.Places;
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
    private readonly LocalCopies copies;
    private readonly CopyOrder order;
    private readonly WorkReports reports;
    private RunFigures figures = new();

    public CopyWork(ServiceLine line, string folder, StepRunner steps, LocalCopies copies, CopyOrder order)
    {
        (this.line, this.folder, this.steps, this.copies, this.order) = (line, folder, steps, copies, order);
        reports = new WorkReports(line, $"copies/{order.Token}", Figures);
    }

    /// <summary>In one sentence how it ended.</summary>
    public Task<string> DoAsync(CancellationToken stopping) =>
        reports.CarryOutAsync(
            $"run {order.Run}, {order.Job} to store {order.Store}",
            async cancel => $"copy {(await MakeAsync(cancel)).Id}",
            Ordered.Failure,
            "what arrived is used by the next run",
            stopping
        );

    private async Task<CopyRecord> MakeAsync(CancellationToken cancel)
    {
        Ordered.Check(order);
        if (order.Local is not null)
            return await HereAsync(cancel);
        var takes = Ordered.Takes(order, reports.Log);
        using var memory = new SendingMemory(Path.Combine(folder, order.Store, order.Job));
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

    /// <summary>Makes the copy in a store on this machine's own disk; the service knows of it when this returns.</summary>
    private async Task<CopyRecord> HereAsync(CancellationToken cancel)
    {
        Patiently.Ask(
            () =>
                line.PostAsync<CopyBeginRequest, CopyBeginAnswer>(
                    $"copies/{order.Token}/begin",
                    new CopyBeginRequest([], line.Instance, HoldsStill: true),
                    cancel
                ),
            cancel
        );
        var record = await copies.MakeAsync(order, order.CopyId, reports.Log, f => figures = f, cancel);
        Patiently.Ask(
            () =>
                line.PostAsync<CopyMadeRequest, CopyReportAnswer>(
                    $"copies/{order.Token}/made",
                    new CopyMadeRequest(reports.Last(cancel), record.Id),
                    cancel
                ),
            cancel
        );
        return record;
    }

    private Task<CopyRecord> OnceAsync(SendingMemory memory, string[] takes, bool inDoubt, CancellationToken cancel)
    {
        var backup = Ordered.Of(order, order.CopyId, "", takes, memory.Newest);
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

    private CopyFigures Figures() => Said(figures);

    /// <summary>Figures as they are told.</summary>
    internal static CopyFigures Said(RunFigures figures)
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
