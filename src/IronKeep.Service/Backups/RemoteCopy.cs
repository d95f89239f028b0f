using IronKeep.Contracts;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Backups;
using IronKeep.Service.Machines;
using IronKeep.Service.Runs;
using IronKeep.Stores.Chunks;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Sessions;

namespace IronKeep.Service.Backups;

/// <summary>
/// One copy that an agent makes into a store of the service: takes what arrives, and writes the record last, under the names and times of
/// the service. What the agent says of itself is shown; what it says of anybody else is nowhere asked.
/// </summary>
internal sealed class RemoteCopy(LiveRun live, PooledStore store, BackupOrder order, TimeProvider clock)
    : AgentCopy(live, store, order),
        IArrivals
{
    private const int MostCopies = 1000;
    private ArrivingCopy? arriving;
    private DateTimeOffset taken;
    private Lazy<CopyCommitAnswer>? ending;

    public CopyBeginAnswer Begin(CopyBeginRequest request)
    {
        if (request.Copies.Count > MostCopies)
            throw WireRefused("remembers more copies than it can");
        if (!Order.StillAt.IsEmpty && !request.HoldsStill)
            throw new ArrivalRefusedException(
                ArrivalFault.Wrong,
                $"the agent of {Order.Machine} is too old to read a moment that is held still; bring it up to date"
            );
        lock (Gate)
        {
            ThrowIfOver();
            // Begun again: the agent was started anew, or tries in doubt. What arrived stays where it is.
            arriving?.Dispose();
            ending = null;
            arriving = ArrivingCopy.Begin(Store, Order.Machine, Order.Level);
            taken = clock.GetUtcNow();
            var at = arriving;
            Figures.Arriving = () => (at.NewBytes, at.StoredBytes);
        }
        var contents = Store.CopyNames().InForce;
        return new CopyBeginAnswer([.. request.Copies.Where(c => contents.Contains(c) && IsOwn(c))]);
    }

    public byte[] Take(ReadOnlySpan<byte> batch) => Now().Take(batch);

    public byte[] Has(ReadOnlySpan<byte> told) => Now().Has(told);

    public CopyCommitAnswer Commit(CopyCommitRequest request)
    {
        Lazy<CopyCommitAnswer> mine;
        lock (Gate)
            mine = ending ??= new Lazy<CopyCommitAnswer>(() => End(request));
        // Said again while it is being made, because the line broke: both wait for the one end, and hear how it was.
        try
        {
            return mine.Value;
        }
        catch
        {
            // What was refused may be said in another way.
            lock (Gate)
                if (ending == mine)
                    ending = null;
            throw;
        }
    }

    private CopyCommitAnswer End(CopyCommitRequest request)
    {
        Report(request.Report);
        if (
            request.Root.Any(r => r.Length != 2 * ChunkId.Size || !r.All(char.IsAsciiHexDigit))
            || request.Takes.Count is < 1 or > 1000
            || request.Takes.Any(t => t.Length is < 1 or > 4096 || t[0] != '/' || t.Any(char.IsControl))
        )
            throw WireRefused("ends in a way that no copy does");
        // An agent that knows nothing of streams would leave out what they give, and say nothing.
        if (Order.Streams.FirstOrDefault(s => !request.Takes.Contains(s.Path)) is { } missing)
            throw WireRefused($"lacks {missing.Path}, which step {missing.Step.Name} gives; is the agent older than the service?");
        var record = new CopyRecord(
            Order.CopyId,
            Order.Job,
            Order.Machine,
            taken,
            clock.GetUtcNow(),
            [.. request.Takes],
            request.Items,
            request.Bytes,
            request.Skipped,
            request.Depth,
            [.. request.Root]
        );
        var before = request.Before is { } id && IsOwn(id) ? Store.ReadRecord(id) : null;
        record = Now().Commit(record, before, Live.Token);
        End(record);
        return new CopyCommitAnswer(record.Id, record.NewBytes ?? 0, record.StoredBytes ?? 0);
    }

    public override void Dispose()
    {
        ArrivingCopy? last;
        lock (Gate)
            (IsOver, last) = (true, arriving);
        last?.Dispose();
    }

    private ArrivingCopy Now()
    {
        lock (Gate)
        {
            ThrowIfOver();
            return arriving ?? throw WireRefused("comes before its beginning");
        }
    }
}
