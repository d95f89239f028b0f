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
internal sealed class RemoteCopy(LiveRun live, PooledStore store, BackupOrder order, TimeProvider clock) : IArrivals, IDisposable
{
    private const int MostCopies = 1000;
    private readonly SaidLines said = new(live);
    private readonly Lock gate = new();
    private readonly TaskCompletionSource<CopyRecord> made = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private ArrivingCopy? arriving;
    private DateTimeOffset taken;
    private Lazy<CopyCommitAnswer>? ending;
    private bool over;

    public RunFigures Figures { get; } = new();

    /// <summary>Completes with the copy, or fails as the run does.</summary>
    public Task<CopyRecord> Made => made.Task;

    public CopyBeginAnswer Begin(CopyBeginRequest request)
    {
        if (request.Copies.Count > MostCopies)
            throw WireRefused("remembers more copies than it can");
        if (!order.StillAt.IsEmpty && !request.HoldsStill)
            throw new ArrivalRefusedException(
                ArrivalFault.Wrong,
                $"the agent of {order.Machine} is too old to read a moment that is held still; bring it up to date"
            );
        lock (gate)
        {
            ThrowIfOver();
            // Begun again: the agent was started anew, or tries in doubt. What arrived stays where it is.
            arriving?.Dispose();
            ending = null;
            arriving = ArrivingCopy.Begin(store, order.Machine, order.Level);
            taken = clock.GetUtcNow();
            var at = arriving;
            Figures.Arriving = () => (at.NewBytes, at.StoredBytes);
        }
        var contents = store.CopyNames().InForce;
        return new CopyBeginAnswer([.. request.Copies.Where(c => contents.Contains(c) && IsOwn(c))]);
    }

    public byte[] Take(ReadOnlySpan<byte> batch) => Now().Take(batch);

    public byte[] Has(ReadOnlySpan<byte> told) => Now().Has(told);

    public void Report(CopyReportRequest report)
    {
        lock (gate)
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

    public CopyCommitAnswer Commit(CopyCommitRequest request)
    {
        Lazy<CopyCommitAnswer> mine;
        lock (gate)
            mine = ending ??= new Lazy<CopyCommitAnswer>(() => End(request));
        // Said again while it is being made, because the line broke: both wait for the one end, and hear how it was.
        try
        {
            return mine.Value;
        }
        catch
        {
            // What was refused may be said in another way.
            lock (gate)
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
        if (order.Streams.FirstOrDefault(s => !request.Takes.Contains(s.Path)) is { } missing)
            throw WireRefused($"lacks {missing.Path}, which step {missing.Step.Name} gives; is the agent older than the service?");
        var record = new CopyRecord(
            order.CopyId,
            order.Job,
            order.Machine,
            taken,
            clock.GetUtcNow(),
            [.. request.Takes],
            request.Items,
            request.Bytes,
            request.Skipped,
            request.Depth,
            [.. request.Root]
        );
        var before = request.Before is { } id && IsOwn(id) ? store.ReadRecord(id) : null;
        record = Now().Commit(record, before, live.Token);
        made.TrySetResult(record);
        return new CopyCommitAnswer(record.Id, record.NewBytes ?? 0, record.StoredBytes ?? 0);
    }

    public void Fail(CopyFailRequest request)
    {
        Report(request.Report);
        Refuse(new RunFailedException(request.Failure, SaidLines.Plain(request.Message)));
    }

    /// <summary>Ends the copy as a failure, whoever is at fault.</summary>
    public void Refuse(Exception why) => made.TrySetException(why);

    /// <summary>From here on nothing more is taken; a copy that is just being written is made first.</summary>
    public void Dispose()
    {
        ArrivingCopy? last;
        lock (gate)
            (over, last) = (true, arriving);
        last?.Dispose();
    }

    private ArrivingCopy Now()
    {
        lock (gate)
        {
            ThrowIfOver();
            return arriving ?? throw WireRefused("comes before its beginning");
        }
    }

    private void ThrowIfOver()
    {
        if (over)
            throw WireRefused("comes after its run is over");
    }

    private bool IsOwn(string copy)
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

    private static ArrivalRefusedException WireRefused(string how) => new(ArrivalFault.Wrong, $"what was sent {how}");
}
