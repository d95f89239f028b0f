using System.Globalization;
using System.Text;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Telling;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Duty;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Telling;

/// <summary>The duty report as a message, sent each day even when all is well, so that silence is noticed.</summary>
public sealed class DutyMail(DutyReport report, CharterInForce inForce, TellingDesk telling, TimeProvider clock) : ITimedWork
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
        var to = Addressees.Of(inForce.Charter, inForce.Charter.Tells, clock.Now());
        await telling.WriteAsync(db, to, new Words($"duty: {title}", Body(duty), "duty-report", duty), cancel);
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
        var since = duty.Since;
        Add(
            $"Since yesterday: {Counted.Of(since.AlertsOpened, "alert")} opened, {since.AlertsClosed} closed; "
                + $"{Counted.Of(since.CopiesMade, "copy", "copies")} made, {since.CopiesExpired} expired, {since.CopiesGone} freed."
        );
        if (duty.Promises.Promised > 0)
            Add($"Promises of freshness kept: {duty.Promises.Promised - duty.Promises.Broken} of {duty.Promises.Promised}.");
        foreach (var trouble in duty.Tonight ?? [])
            Add($"Tonight, {trouble.At:HH:mm} UTC: {trouble.Subject} {trouble.Message}.");
        Add($"");
        foreach (var group in duty.Groups)
            Add($"  {group.Name, -24} {Counted.Of(group.Jobs, "job")}, {group.Stale} stale, {group.WrongLastNight} wrong last night");
        foreach (var row in duty.Board)
            Add(
                $"  {row.Job, -24} newest good copy "
                    + $"{(row.NewestGoodCopy is { } at ? $"{at:yyyy-MM-dd HH:mm} UTC" : "none")}{(row.Stale ? "  STALE" : "")}"
            );
        return text.ToString();
    }
}
