using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Core.Ceilings;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Hearing;
using IronKeep.Service.Runs;
using IronKeep.Service.Stores;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Restores;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Copies;

/// <summary>What a restore is to bring back.</summary>
public sealed record RestoreOrder(string CopyId, IReadOnlyList<string> Paths, string To, ExistingRule Existing = ExistingRule.Keep);

/// <summary>Restores entries of a copy to a folder on this machine.</summary>
public sealed class RestoreWork(OpenStores stores, CharterInForce charter, IOptions<ServiceSettings> settings) : IRunWork
{
    public RunKind Kind => RunKind.Restore;

    public bool TouchesCopies => false;

    /// <summary>Somebody waits for it.</summary>
    public RunClaim ClaimOf(Run run, Charter charter) => Waited.ClaimOf(run);

    /// <summary>A person waits for it, who reads its report.</summary>
    public IEnumerable<AlertStep> AlertsOf(Run run, Charter charter) => [];

    public Task<RunEnding> DoAsync(LiveRun live, CancellationToken cancel)
    {
        var order = JsonSerializer.Deserialize<RestoreOrder>(live.Run.Order!)!;
        var store = stores.Get(live.Run.Store!);
        var record = store.ReadRecord(order.CopyId)
            ?? throw new RunFailedException(
                FailureClass.DataDamaged,
                $"the record of copy {order.CopyId} is not in store {live.Run.Store}"
            );
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
        RestoreReport report;
        try
        {
            report = store.Restore(record, order.Paths, order.To, manner, cancel);
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
            throw new RunFailedException(
                e is UnauthorizedAccessException or PosixException { AccessDenied: true }
                    ? FailureClass.AccessRefused
                    : FailureClass.Unknown,
                $"cannot restore to {order.To}: {e.Message}",
                e
            );
        }
        foreach (var problem in report.Problems)
            live.Log(LogSeverity.Warning, $"{problem.Path}: {problem.Problem}");
        live.Report(new Progress(report.Files + report.Folders + report.Links, report.Bytes, report.Bytes, 0, 0, report.Problems.Count));
        var done =
            $"{Counted.Of(report.Files, "file")} ({new ByteSize(report.Bytes)}), {Counted.Of(report.Folders, "folder")} and "
            + $"{Counted.Of(report.Links, "link")} of copy {order.CopyId} restored to {order.To}"
            + (report.Overwritten > 0 ? $", {report.Overwritten} over existing ones" : "")
            + (report.Beside > 0 ? $", {report.Beside} beside existing ones" : "");
        var nothing = report.Files + report.Links == 0;
        return Task.FromResult(
            report.Problems.Count switch
            {
                0 => new RunEnding(Outcome.Ok, done) { CopyIds = [order.CopyId] },
                // Folders on the way to what was wanted are nothing that anybody wanted.
                _ when nothing && record.Items > 0 => new RunEnding(
                    Outcome.Failed,
                    $"nothing was restored: {report.Problems[0].Path}: {report.Problems[0].Problem}",
                    FailureClass.Unknown
                )
                {
                    CopyIds = [order.CopyId],
                },
                _ => new RunEnding(Outcome.Warned, $"{done}; {Counted.Of(report.Problems.Count, "problem")}, named in the log")
                {
                    CopyIds = [order.CopyId],
                },
            }
        );
    }
}
