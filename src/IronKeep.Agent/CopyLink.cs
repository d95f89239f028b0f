using IronKeep.Contracts;
using IronKeep.Runs.Backups;
using IronKeep.Runs.Sending;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Sessions;

namespace IronKeep.Agent;

/// <summary>
/// The way of one copy to the service. A line that breaks is tried again with growing pauses until the service says that the run is over,
/// or until it was away for too long; what was sent twice so is stored once. Ends with the run's token.
/// </summary>
internal sealed class CopyLink(ServiceLine line, CopyOrder order, LinePace pace, Func<CopyReportRequest> report, CancellationToken cancel)
    : ICopyLink
{
    public IReadOnlySet<string> Begin(IReadOnlyCollection<string> copies)
    {
        var begun = Again(() =>
            line.PostAsync<CopyBeginRequest, CopyBeginAnswer>(
                At("begin"),
                new CopyBeginRequest([.. copies], line.Instance, HoldsStill: true),
                cancel
            )
        );
        pace.PerSecond = begun.PerSecond;
        return begun.InForce.ToHashSet();
    }

    public byte[] Send(ReadOnlyMemory<byte> batch) => Again(() => line.PostBytesAsync(At("batches"), batch, pace, cancel));

    public byte[] Has(ReadOnlyMemory<byte> told) => Again(() => line.PostBytesAsync(At("has"), told, pace, cancel));

    public CopyRecord Commit(CopyRecord record, string? before)
    {
        var request = new CopyCommitRequest(
            report(),
            [.. record.Takes],
            record.Items,
            record.Bytes,
            record.Skipped,
            record.Depth,
            [.. record.Root],
            before
        );
        var answer = Again(() => line.PostAsync<CopyCommitRequest, CopyCommitAnswer>(At("commit"), request, cancel));
        return record with { Id = answer.CopyId, NewBytes = answer.NewBytes, StoredBytes = answer.StoredBytes };
    }

    private string At(string what) => $"copies/{order.Token}/{what}";

    private T Again<T>(Func<Task<T>> ask)
    {
        try
        {
            return Patiently.Ask(ask, cancel);
        }
        catch (LineException e) when (e.Fault == LineFault.Absent)
        {
            throw new ArrivalRefusedException(ArrivalFault.Absent, e.Message);
        }
    }
}
