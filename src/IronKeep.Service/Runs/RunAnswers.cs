using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Alerts;
using IronKeep.Service.Copies;
using IronKeep.Service.Facts;

namespace IronKeep.Service.Runs;

/// <summary>Runs as the API gives them.</summary>
public static class RunAnswers
{
    public static RunAnswer ToAnswer(this Run run, LiveRun? live = null, Charter? charter = null, string? waitsFor = null)
    {
        var now = live?.Now ?? new Progress(run.Items, run.SelectedBytes, run.ReadBytes, run.NewBytes, run.StoredBytes, run.Skipped);
        var elapsed =
            live is not null ? live.Elapsed.TotalSeconds
            : run is { Began: not null, Ended: not null } ? run.Took.TotalSeconds
            : (double?)null;
        // While another service has it, what it last wrote down of it is known here.
        var moving = run.State == RunState.Running;
        var (expectedItems, expectedBytes) =
            live is not null ? (live.ExpectedItems, live.ExpectedBytes)
            : moving ? (run.ExpectedItems, run.ExpectedBytes)
            : (null, null);
        var rate =
            live is not null ? live.RecentRate
            : moving ? run.Rate
            : elapsed > 0 && now.SelectedBytes > 0 ? now.SelectedBytes / elapsed
            : null;
        var figures = new RunFiguresAnswer(
            now.Items,
            now.SelectedBytes,
            now.ReadBytes,
            now.NewBytes,
            now.StoredBytes,
            now.Skipped,
            expectedItems,
            expectedBytes,
            rate,
            elapsed,
            Remaining(run, expectedBytes, rate, now)
        );
        var copies = run.CopyIds.Split('\n', StringSplitOptions.RemoveEmptyEntries);
        return new RunAnswer(
            run.Id,
            run.Kind,
            run.Job,
            run.Machine,
            run.Store,
            run.By.ToAnswer(),
            run.State,
            run.Outcome,
            run.Failure,
            run.Sentence,
            run.Failure is { } failure ? (charter ?? Charter.Empty).RemedyOf(failure) : null,
            run.Due?.ToDateTimeOffset(),
            run.Queued.ToDateTimeOffset(),
            run.Began?.ToDateTimeOffset(),
            run.Ended?.ToDateTimeOffset(),
            figures,
            copies.FirstOrDefault(),
            copies,
            run.NotBefore?.ToDateTimeOffset(),
            run.Attempt,
            run.ConfirmedBy,
            run.ConfirmedAt?.ToDateTimeOffset(),
            run.ExitCode,
            run.Evidence is { } heard ? JsonSerializer.Deserialize<EvidenceAnswer>(heard, ContractJson.Options) : null,
            run.Known + run.Gone > 0 ? new ChurnAnswer(run.Known + run.Gone, run.Altered, run.Gone, run.Added) : null,
            run.Surge,
            run.SurgeSeenBy,
            run.State == RunState.Queued ? waitsFor : null
        );
    }

    /// <summary>
    /// Seconds, by what is expected and the rate of the last minute; null when either is unknown. Source: docs/semantics.md, section 7
    /// (Figures).
    /// </summary>
    private static double? Remaining(Run run, long? expected, double? rate, Progress now) =>
        run.State != RunState.Ended && expected > now.SelectedBytes && rate > 0 ? (expected - now.SelectedBytes) / rate : null;

    public static ActorAnswer ToAnswer(this Actor a) => new(a.Kind, a.Name, a.RunId, a.Words);
}
