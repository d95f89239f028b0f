using System.Globalization;
using System.Text;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Service.Charters;
using IronKeep.Service.Duty;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Telling;

/// <summary>The duty report as a message, sent each day even when all is well, so that silence is noticed.</summary>
public sealed class DutyMail(DutyReport report, CharterInForce inForce, TellingDesk telling) : ITimedWork
{
    public string What => "duty-mail";

    public IEnumerable<(string Store, Schedule When)> Times(Charter charter) => charter.DutyMail is { } when ? [("", when)] : [];

    public Task DoAsync(KeepContext db, string store, Instant due, CancellationToken cancel) => WriteAsync(db, cancel);

    /// <summary>Writes it down for every channel that the charter tells.</summary>
    private async Task WriteAsync(KeepContext db, CancellationToken cancel)
    {
        var duty = await report.MakeAsync(db, cancel);
        var open = duty.Alerts.Count(a => a.State == AlertState.Open);
        var title = open == 0 ? "all is well" : $"{Counted.Of(open, "matter")} {(open == 1 ? "needs" : "need")} somebody";
        await telling.WriteAsync(db, inForce.Charter.Tells, $"duty: {title}", Body(duty), "duty-report", duty, cancel);
    }

    private static string Body(DutyAnswer duty)
    {
        var text = new StringBuilder();
        void Add(string line) => text.Append(line).Append('\n');
        Add($"{(duty.Alerts.Count == 0 ? "Nothing needs anybody." : $"{Counted.Of(duty.Alerts.Count, "open matter")}:")}");
        foreach (var a in duty.Alerts)
        {
            Add($"");
            Add(
                $"  {Kebab.Of(a.Class).ToUpperInvariant()}  {a.Subject.Words}, "
                    + $"{Counted.Of(a.Count, "time")}{(a.AcknowledgedBy is null ? "" : $", seen by {a.AcknowledgedBy}")}"
            );
            Add($"    {a.Message}");
            Add($"    -> {a.Remedy}");
        }
        Add($"");
        var terms = duty.Outcomes.Where(o => o.Value > 0).Select(o => $"{o.Value} {o.Key}").ToList();
        if (duty.StillRunning > 0)
            terms.Add($"{duty.StillRunning} still running");
        Add(
            $"Last night ({duty.From:yyyy-MM-dd HH:mm} to {duty.To:yyyy-MM-dd HH:mm} UTC): {duty.Planned} "
                + $"planned{(terms.Count == 0 ? "" : " = " + string.Join(" + ", terms))}; {duty.Unplanned} unplanned."
        );
        Add($"");
        foreach (var row in duty.Board)
            Add(
                $"  {row.Job, -24} newest good copy "
                    + $"{(row.NewestGoodCopy is { } at ? $"{at:yyyy-MM-dd HH:mm} UTC" : "none")}{(row.Stale ? "  STALE" : "")}"
            );
        return text.ToString();
    }
}
