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
using IronKeep.Stores.Exports;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Copies;

public enum ExportFormat
{
    Tar,
    Bag,
}

/// <summary>What an export is to write, and where.</summary>
public sealed record ExportOrder(string CopyId, IReadOnlyList<string> Paths, ExportFormat Format, string To);

/// <summary>Writes a copy in an open format to this machine.</summary>
public sealed class ExportWork(OpenStores stores, CharterInForce charter, IOptions<ServiceSettings> settings) : IRunWork
{
    public RunKind Kind => RunKind.Export;

    public bool TouchesCopies => false;

    /// <summary>Somebody waits for it.</summary>
    public RunClaim ClaimOf(Run run, Charter charter) => Waited.ClaimOf(run);

    /// <summary>A person waits for it, who reads its report.</summary>
    public IEnumerable<AlertStep> AlertsOf(Run run, Charter charter) => [];

    public Task<RunEnding> DoAsync(LiveRun live, CancellationToken cancel)
    {
        var order = JsonSerializer.Deserialize<ExportOrder>(live.Run.Order!)!;
        var store = stores.Get(live.Run.Store!);
        var record = store.ReadRecord(order.CopyId)
            ?? throw new RunFailedException(
                FailureClass.DataDamaged,
                $"the record of copy {order.CopyId} is not in store {live.Run.Store}"
            );
        try
        {
            return Task.FromResult(order.Format == ExportFormat.Bag ? Bagged() : Archived());
        }
        catch (Exception e)
            when (e is UnauthorizedAccessException or IOException and not PlaceException and not IronKeep.Stores.StoreDamageException)
        {
            throw new RunFailedException(
                e is UnauthorizedAccessException ? FailureClass.AccessRefused : FailureClass.Unknown,
                $"cannot write {order.To}: {e.Message}",
                e
            );
        }

        RunEnding Archived()
        {
            var (entries, leftOut) = store.WriteArchive(
                record,
                order.Paths,
                order.To,
                new RestoreManner(OwnFolders.Of(charter.Charter, settings.Value), Progress: (count, bytes) =>
                    live.Report(new Progress(count, bytes, bytes, 0, 0, 0))
                ),
                cancel
            );
            return new RunEnding(
                Outcome.Ok,
                $"{Counted.Of(entries, "entry", "entries")} of copy {order.CopyId} written to {order.To} "
                    + $"({new ByteSize(new FileInfo(order.To).Length)}){(leftOut > 0 ? $"; {Counted.Of(leftOut, "socket")} left out" : "")}"
            )
            {
                CopyIds = [order.CopyId],
            };
        }

        RunEnding Bagged()
        {
            var (files, report) = store.WriteBag(
                record,
                order.Paths,
                order.To,
                new RestoreManner(OwnFolders.Of(charter.Charter, settings.Value)),
                cancel
            );
            foreach (var problem in report.Problems)
                live.Log(LogSeverity.Warning, $"{problem.Path}: {problem.Problem}");
            live.Report(new Progress(files, report.Bytes, report.Bytes, 0, 0, report.Problems.Count));
            var done =
                $"{Counted.Of(files, "file")} of copy {order.CopyId} in the bag {order.To}; sha256sum -c manifest-sha256.txt checks it";
            return new RunEnding(
                report.Problems.Count > 0 ? Outcome.Warned : Outcome.Ok,
                report.Problems.Count > 0 ? $"{done}; {Counted.Of(report.Problems.Count, "problem")}, named in the log" : done
            )
            {
                CopyIds = [order.CopyId],
            };
        }
    }
}
