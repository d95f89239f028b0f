using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Core.Ceilings;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Runs.Restores;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Hearing;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Restores;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Copies;

/// <summary>
/// What a restore is to bring back, and on which machine by its agent (null: here); the reason says why, where the copy is of another.
/// </summary>
public sealed record RestoreOrder(
    string CopyId,
    IReadOnlyList<string> Paths,
    string To,
    ExistingRule Existing = ExistingRule.Keep,
    string? Machine = null,
    string? Reason = null
);

/// <summary>Restores entries of a copy to a folder on this machine, or on one that has an agent.</summary>
public sealed class RestoreWork(OpenStores stores, CharterInForce charter, RemoteRestores remote, IOptions<ServiceSettings> settings)
    : IRunWork
{
    public RunKind Kind => RunKind.Restore;

    public bool TouchesCopies => false;

    /// <summary>Somebody waits for it.</summary>
    public RunClaim ClaimOf(Run run, Charter charter) => Waited.ClaimOf(run);

    /// <summary>A person waits for it, who reads its report.</summary>
    public IEnumerable<AlertStep> AlertsOf(Run run, Charter charter) => [];

    public async Task<RunEnding> DoAsync(LiveRun live, CancellationToken cancel)
    {
        var order = JsonSerializer.Deserialize<RestoreOrder>(live.Run.Order!)!;
        var store = stores.Get(live.Run.Store!);
        var record = store.ReadRecord(order.CopyId)
            ?? throw new RunFailedException(
                FailureClass.DataDamaged,
                $"the record of copy {order.CopyId} is not in store {live.Run.Store}"
            );
        if (order.Machine is not { } machine)
            return Ending(order, record, "", RestoreTally.Of(Here(live, store, record, order, cancel)), live);
        if (store is not PooledStore pooled)
            throw new RunFailedException(
                FailureClass.UnsafePlace,
                $"store {live.Run.Store} is of a layout that is given back on the service's own machine alone; restore without a machine"
            );
        live.Log(
            LogSeverity.Info,
            $"copy {record.Id} of {record.Machine} is given back on {machine}, as {live.Run.By.Name} asked for"
                + (order.Reason is null ? "" : $": {order.Reason}")
        );
        return Ending(order, record, $" on {machine}", await remote.GiveBackAsync(live, pooled, record, order, cancel), live);
    }

    private RestoreReport Here(LiveRun live, IStoreLayout store, CopyRecord record, RestoreOrder order, CancellationToken cancel)
    {
        // Given back to where it came from, a path may have a store in its way by now.
        foreach (var take in record.Takes)
        {
            var path = RealPaths.OfExistingPart(order.To.TrimEnd('/') + take);
            foreach (var declared in charter.Charter.Stores.Values.Where(s => s.LocalFolder is not null))
            {
                var folder = RealPaths.OfExistingPart(declared.Folder);
                if (RealPaths.Contains(folder, path) || RealPaths.Contains(path, folder))
                    throw new RunFailedException(
                        FailureClass.UnsafePlace,
                        $"{path}, where this copy would be restored to, and store {declared.Name} at {folder} contain each other; restore "
                            + $"to another folder"
                    );
            }
        }
        var manner = new RestoreManner(OwnFolders.Of(charter.Charter, settings.Value), order.Existing, (files, bytes) =>
            live.Report(new Progress(files, bytes, bytes, 0, 0, 0))
        );
        try
        {
            var report = store.Restore(record, order.Paths, order.To, manner, cancel);
            foreach (var problem in report.Problems)
                live.Log(LogSeverity.Warning, $"{problem.Path}: {problem.Problem}");
            return report;
        }
        catch (Exception e)
            when (e
                    is PosixException
                        or UnauthorizedAccessException
                        or IOException
                        and not IronKeep.Stores.Places.PlaceException
                        and not IronKeep.Stores.StoreDamageException
            )
        {
            throw RestoreFailures.Of(order.To, e);
        }
    }

    private static RunEnding Ending(RestoreOrder order, CopyRecord record, string where, RestoreTally tally, LiveRun live)
    {
        live.Report(new Progress(tally.Files + tally.Folders + tally.Links, tally.Bytes, tally.Bytes, 0, 0, tally.Problems));
        var done =
            $"{Counted.Of(tally.Files, "file")} ({new ByteSize(tally.Bytes)}), {Counted.Of(tally.Folders, "folder")} and "
            + $"{Counted.Of(tally.Links, "link")} of copy {order.CopyId} restored to {order.To}{where}"
            + (tally.Overwritten > 0 ? $", {tally.Overwritten} over existing ones" : "")
            + (tally.Beside > 0 ? $", {tally.Beside} beside existing ones" : "");
        var nothing = tally.Files + tally.Links == 0;
        return tally.Problems switch
        {
            0 => new RunEnding(Outcome.Ok, done) { CopyIds = [order.CopyId] },
            // Folders on the way to what was wanted are nothing that anybody wanted.
            _ when nothing && record.Items > 0 => new RunEnding(
                Outcome.Failed,
                $"nothing was restored: {tally.FirstProblem}",
                FailureClass.Unknown
            )
            {
                CopyIds = [order.CopyId],
            },
            _ => new RunEnding(Outcome.Warned, $"{done}; {Counted.Of(tally.Problems, "problem")}, named in the log")
            {
                CopyIds = [order.CopyId],
            },
        };
    }
}
