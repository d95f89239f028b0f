using IronKeep.Contracts;
using IronKeep.Runs;
using IronKeep.Runs.Backups;
using IronKeep.Service.Machines;
using IronKeep.Service.Runs;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Sessions;

namespace IronKeep.Service.Backups;

/// <summary>
/// One copy that an agent makes, wherever it goes: what is said of it while it is made, and how it ends. What the agent says of itself is
/// shown; what it says of anybody else is nowhere asked.
/// </summary>
internal abstract class AgentCopy(LiveRun live, PooledStore store, BackupOrder order) : IOrderTalk, IDisposable
{
    private readonly SaidLines said = new(live);
    private readonly TaskCompletionSource<CopyRecord> made = new(TaskCreationOptions.RunContinuationsAsynchronously);

    protected Lock Gate { get; } = new();
    protected bool IsOver { get; set; }
    protected LiveRun Live => live;
    protected PooledStore Store => store;
    protected BackupOrder Order => order;

    public RunFigures Figures { get; } = new();

    /// <summary>Completes with the copy, or fails as the run does.</summary>
    public Task<CopyRecord> Result => made.Task;

    protected void End(CopyRecord record) => made.TrySetResult(record);

    public void Report(CopyReportRequest report)
    {
        lock (Gate)
        {
            ThrowIfOver();
            said.Take(report);
        }
        var f = report.Figures;
        Figures.Take(
            new SaidFigures(
                SaidLines.Count(f.Items),
                SaidLines.Count(f.SelectedBytes),
                SaidLines.Count(f.ReadBytes),
                SaidLines.Count(f.Skipped),
                SaidLines.Count(f.FilesRead),
                SaidLines.Count(f.Known),
                SaidLines.Count(f.Altered),
                SaidLines.Count(f.Gone),
                SaidLines.Count(f.Added),
                SaidLines.Count(f.Moving)
            )
        );
    }

    public void Fail(CopyFailRequest request)
    {
        Report(request.Report);
        Refuse(new RunFailedException(request.Failure, SaidLines.Plain(request.Message)));
    }

    /// <summary>Ends the copy as a failure, whoever is at fault.</summary>
    public void Refuse(Exception why) => made.TrySetException(why);

    /// <summary>From here on nothing more is taken; a copy that is just being written is made first.</summary>
    public abstract void Dispose();

    protected void ThrowIfOver()
    {
        if (IsOver)
            throw WireRefused("comes after its run is over");
    }

    protected bool IsOwn(string copy)
    {
        try
        {
            return store.ReadRecord(copy) is { } record && record.Machine == order.Machine && record.Job == order.Job;
        }
        catch (Exception e) when (e is PlaceException or IronKeep.Stores.StoreDamageException)
        {
            return false;
        }
    }

    protected static ArrivalRefusedException WireRefused(string how) => new(ArrivalFault.Wrong, $"what was sent {how}");
}

/// <summary>A copy that an agent makes in a store on its own disk. Its record is read from there, and must be what was ordered.</summary>
internal sealed class CopyMadeThere(LiveRun live, PooledStore store, BackupOrder order) : AgentCopy(live, store, order), IMadeThere
{
    public void Made(CopyMadeRequest request)
    {
        if (Result.IsCompleted)
            return;
        Report(request.Report);
        if (request.CopyId != Order.CopyId || !IsOwn(request.CopyId) || Store.ReadRecord(request.CopyId) is not { } record)
            throw WireRefused($"names copy {Basics.StrangersWords.OneLine(request.CopyId, 100)}, which is not there as it was ordered");
        Figures.Arriving = () => (record.NewBytes ?? 0, record.StoredBytes ?? 0);
        End(record);
    }

    public override void Dispose()
    {
        lock (Gate)
            IsOver = true;
    }
}
