using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;

namespace IronKeep.Cli.Commands;

internal static class DutyCommands
{
    /// <summary>How many of the coming night's troubles are named.</summary>
    private const int MostTroubles = 5;

    public static Command Make() =>
        Common.Verb("duty", "What needs a person now, and the sums of the last night", async (parsed, client, cancel) =>
        {
            var duty = await client.GetAsync<DutyAnswer>("duty", cancel);
            var calm = duty.Alerts.All(a => a.State != AlertState.Open);
            if (Common.AsJson(parsed))
            {
                Show.Json(duty);
                return calm ? Root.Done : Root.Findings;
            }
            Show.Line(duty.Alerts.Count == 0 ? "Nothing needs you." : $"{Counted.Of(duty.Alerts.Count, "open matter")}:");
            foreach (var alert in duty.Alerts)
            {
                Show.Line();
                var seen = alert.AcknowledgedBy is null ? "" : $", acknowledged by {alert.AcknowledgedBy}";
                Show.Line(
                    $"  [{alert.Id}] {alert.Class.Word().ToUpperInvariant()}  {alert.Subject.Words}  since {Show.When(alert.OpenedAt)} "
                        + $"({Show.Ago(alert.OpenedAt, duty.AsOf)}), {Counted.Of(alert.Count, "time")}{seen}"
                );
                Show.Line($"      {alert.Message}");
                if (alert.Affected.Count > 1)
                    Show.Line($"      affects {string.Join(", ", alert.Affected)}");
                Show.Line($"      -> {alert.Remedy}");
            }
            Show.Line();
            var terms = duty.Outcomes.Where(o => o.Value > 0).Select(o => $"{o.Value} {o.Key}").ToList();
            if (duty.StillRunning > 0)
                terms.Add($"{duty.StillRunning} still running");
            Show.Line(
                $"Last night ({Show.When(duty.From)} to {Show.When(duty.To)}): {duty.Planned} "
                    + $"planned{(terms.Count == 0 ? "" : " = " + string.Join(" + ", terms))}; {duty.Unplanned} unplanned"
            );
            Print(duty);
            Show.Line();
            if (duty.Groups.Count > 0)
                Show.Table(
                    [duty.GroupedBy.Word(), ">jobs", ">stale", $"last {duty.Groups[0].Nights.Count} nights", ">wrong last night"],
                    duty.Groups.Select(g =>
                        new[]
                        {
                            g.Name,
                            $"{g.Jobs}",
                            $"{g.Stale}",
                            string.Concat(g.Nights.Select(n => Mark(n.Worst, n.Planned))),
                            $"{g.WrongLastNight}",
                        }
                    ),
                    "no jobs yet"
                );
            else
                Show.Table(
                    ["job", "machine", $"last {(duty.Board.Count == 0 ? 0 : duty.Board[0].Nights.Count)} nights", "newest good copy"],
                    duty.Board.Select(row =>
                        new[]
                        {
                            row.Job,
                            row.Machine,
                            string.Concat(row.Nights.Select(n => Mark(n.Outcome, n.Planned))),
                            $"{(row.Watched && row.NewestGoodCopy is null ? "watched" : Show.Ago(row.NewestGoodCopy, duty.AsOf))}"
                                + $"{(row.Stale ? " (stale)" : "")}"
                                + (row.Pause is { } pause ? $" (paused by {pause.By} until {Show.When(pause.Until)}: {pause.Reason})" : ""),
                        }
                    ),
                    "no jobs yet"
                );
            if (duty.Board.Count + duty.Groups.Count > 0)
                Show.Line(
                    "O ok  w warned  s suspect  x failed  m missed  r refused or held back  c cancelled  - not needed  > running  . none "
                        + "planned"
                );
            return calm ? Root.Done : Root.Findings;
        });

    private static void Print(DutyAnswer duty)
    {
        var since = duty.Since;
        Show.Line(
            $"Since yesterday: {Counted.Of(since.AlertsOpened, "alert")} opened and {since.AlertsClosed} closed; "
                + $"{Counted.Of(since.CopiesMade, "copy", "copies")} made, {since.CopiesExpired} expired, {since.CopiesGone} freed"
                + (since.CharterChanges > 0 ? $"; the charter was changed {Counted.Of(since.CharterChanges, "time")}" : "")
        );
        var promises = duty.Promises;
        if (promises.Promised > 0)
            Show.Line(
                $"Promises of freshness: {promises.Promised - promises.Broken} of {promises.Promised} kept"
                    + (promises.Broken > 0 ? $"; broken for {Counted.Named([.. promises.Worst.Select(w => w.Job)], promises.Broken)}" : "")
            );
        Print(duty.Coverage);
        if (duty.Tonight is not { } tonight)
            return;
        if (tonight.Count == 0)
            Show.Line("Tonight: nothing is expected to go wrong");
        foreach (var trouble in tonight.Take(MostTroubles))
            Show.Line($"Tonight, {Show.When(trouble.At)}: {trouble.Subject} {trouble.Message} -> {trouble.Remedy}");
        if (tonight.Count + duty.TonightMore - MostTroubles is > 0 and var more)
            Show.Line($"and {more} more; 'ironkeep forecast' has them all");
    }

    private static void Print(DutyCoverage coverage)
    {
        if (coverage.Classes.Values.Sum() is > 1 and var all)
            Show.Line(
                $"Machines: {all} = " + string.Join(" + ", coverage.Classes.Where(c => c.Value > 0).Select(c => $"{c.Value} {c.Key}"))
            );
        foreach (var news in coverage.News)
            Show.Line($"  {news.Class.Word().ToUpperInvariant()} since {Show.When(news.Since)}: {news.Machine}, {news.Why}");
        if (coverage.NewsCount > coverage.News.Count)
            Show.Line($"  and {coverage.NewsCount - coverage.News.Count} more; 'ironkeep machine list' has them all");
        foreach (var taken in coverage.Taken)
            Show.Line($"  Job {taken.Job} has taken {taken.Machine} since {Show.When(taken.Since)}; its next planned run is there too.");
        if (coverage.TakenCount > coverage.Taken.Count)
            Show.Line($"  and {coverage.TakenCount - coverage.Taken.Count} more were taken");
        foreach (var back in coverage.CameBack)
            Show.Line(
                $"  CAME BACK: a machine with the key of {back.Machine} wanted to join as {back.CameAs}, {Show.When(back.At)}. Say what it "
                    + $"is with 'ironkeep machine came-back {back.Machine}'."
            );
        foreach (var decision in coverage.Decisions)
            Show.Line(
                $"  DECIDE: {decision.CopiesOwner} was to say by {decision.DecideBy} what becomes of the copies of {decision.Machine}, "
                    + "which "
                    + (decision.Over ? $"were kept until {decision.CopiesUntil}." : $"are kept until {decision.CopiesUntil}.")
            );
    }

    private static char Mark(Outcome? ended, int planned) =>
        ended is not { } outcome
            ? planned > 0
                ? '>'
                : '.'
            : outcome switch
            {
                Outcome.Ok => 'o',
                Outcome.Warned => 'w',
                Outcome.Suspect => 's',
                Outcome.Failed or Outcome.TimedOut => 'x',
                Outcome.Missed => 'm',
                Outcome.Refused or Outcome.HeldBack => 'r',
                Outcome.Cancelled => 'c',
                Outcome.NotNeeded => '-',
            };
}
