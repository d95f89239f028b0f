using System.Collections.Immutable;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Runs.Steps;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;

namespace IronKeep.Runs.Backups;

/// <summary>
/// What one backup is to do. Paths are absolute with links resolved; <paramref name="Previous"/> is the copy to compare with, or null;
/// <paramref name="Level"/> is that of Zstandard, 1 to 19.
/// </summary>
public sealed record BackupOrder(
    string CopyId,
    string Job,
    string Machine,
    ImmutableArray<string> Takes,
    ImmutableArray<string> LeavesOut,
    CopyRecord? Previous
)
{
    /// <summary>Whether folders tagged as caches are left out.</summary>
    public bool LeavesOutCaches { get; init; }

    /// <summary>Whether file systems mounted below a taken folder are taken with it.</summary>
    public bool AllFileSystems { get; init; }

    public int Level { get; init; } = 1;

    /// <summary>Where moments of what is taken are held still; links on the way to the folders resolved.</summary>
    public ImmutableArray<StillFolder> StillAt { get; init; } = [];

    /// <summary>Opens the topmost folder of the machine that is copied from; null: of this one.</summary>
    public Func<ISourceFolder>? Top { get; init; }

    /// <summary>Commands whose output is taken too.</summary>
    public ImmutableArray<StreamSource> Streams { get; init; } = [];
}

/// <summary>
/// Makes one copy: walks the sources, reads what changed, stores what the store lacks, and writes the copy record last. Throws
/// <see cref="RunFailedException"/>.
/// </summary>
public sealed class BackupRun(ICopyTarget target, BackupOrder order, TimeProvider clock, RunLog log)
{
    public RunFigures Figures { get; } = new();

    /// <summary>What runs the commands of streams; an order that has some needs it.</summary>
    public StepRunner? Steps { get; init; }

    /// <summary>Does the work; the record is durable when this returns.</summary>
    public Task<CopyRecord> RunAsync(CancellationToken cancel) => Task.Run(() => Run(cancel), CancellationToken.None);

    /// <summary>The class of failure that a place's fault means.</summary>
    public static FailureClass ClassOf(PlaceException e) =>
        e.Fault switch
        {
            PlaceFault.Full => FailureClass.StoreFull,
            PlaceFault.AccessRefused => FailureClass.AccessRefused,
            PlaceFault.Unreachable or PlaceFault.InUse or PlaceFault.NotFound => FailureClass.StoreUnreachable,
            _ => FailureClass.Unknown,
        };

    private CopyRecord Run(CancellationToken cancel)
    {
        PlaceWaits.EndWith(cancel);
        var taken = clock.GetUtcNow();
        ICopySession? begun = null;
        try
        {
            CopyRecord record;
            using (var session = begun = target.BeginCopy(order.Level))
            {
                Figures.Session = session;
                var streams = order.Streams.IsEmpty ? null : new StreamIntake(session, order, Steps!, Figures, log, clock, cancel).Take();
                var root = new TreeIntake(session, order, streams, Figures, log, cancel).Take();
                record = new CopyRecord(
                    order.CopyId,
                    order.Job,
                    order.Machine,
                    taken,
                    clock.GetUtcNow(),
                    [.. order.Takes, .. order.Streams.Select(s => s.Path)],
                    root.Items,
                    root.Size,
                    Figures.Skipped,
                    root.Content.Depth,
                    [.. root.Content.Ids.Select(c => c.ToString())]
                );
                cancel.ThrowIfCancellationRequested();
                record = session.Commit(record);
            }
            Tidy(cancel);
            return record;
        }
        catch (PlaceException e)
        {
            if (e.Fault == PlaceFault.Full && begun is not null)
                GiveBack(begun);
            throw new RunFailedException(ClassOf(e), e.Message, e);
        }
        catch (StoreDamageException e)
        {
            throw new RunFailedException(FailureClass.DataDamaged, e.Message, e);
        }
        catch (SourceAwayException e)
        {
            cancel.ThrowIfCancellationRequested();
            throw new RunFailedException(e.IsRefused ? FailureClass.AccessRefused : FailureClass.MachineAway, e.Message, e);
        }
    }

    /// <summary>The copy is made; what joining small packs has to complain of takes nothing from it.</summary>
    private void Tidy(CancellationToken cancel)
    {
        try
        {
            target.Tidy(cancel);
        }
        catch (OperationCanceledException)
        {
            // The next run goes on.
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            log(LogSeverity.Warning, $"small packs could not be joined: {e.Message}");
        }
    }

    /// <summary>A run that met the end of the room leaves it as it found it.</summary>
    private void GiveBack(ICopySession session)
    {
        try
        {
            if (target.GiveBack(session) is { } back)
                log(LogSeverity.Info, back);
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            log(LogSeverity.Warning, $"what this run stored could not be given back ({e.Message}); the next reclaiming frees it");
        }
    }
}
