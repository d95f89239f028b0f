using System.Globalization;
using System.Text;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Service.Telling;

/// <summary>The duty report as text and as HTML: the same content in both, in the charter's zone.</summary>
internal static class DutyPages
{
    /// <summary>So many alerts are named in a mail, the worst first; the rest are counted.</summary>
    private const int MostAlerts = 40;
    private static readonly ZonedDateTimePattern Moment = ZonedDateTimePattern.CreateWithInvariantCulture("uuuu-MM-dd HH:mm", null);

    public static string Title(DutyAnswer duty)
    {
        var open = duty.Alerts.Count(a => a.State == AlertState.Open);
        return $"duty: {(open == 0 ? "all is well" : $"{Counted.Of(open, "matter")} {(open == 1 ? "needs" : "need")} somebody")}";
    }

    public static string Text(DutyAnswer duty)
    {
        var text = new StringBuilder();
        void Add(string line = "") => text.Append(line).Append('\n');
        Add(duty.Alerts.Count == 0 ? "Nothing needs anybody." : $"{Counted.Of(duty.Alerts.Count, "open matter")}:");
        foreach (var a in duty.Alerts.Take(MostAlerts))
        {
            Add();
            Add($"  {Kebab.Of(a.Class).ToUpperInvariant()}  {a.Subject.Words}, {Stands(a, duty)}");
            Add($"    {a.Message}");
            Add($"    -> {a.Remedy}");
        }
        if (More(duty) is { } more)
            Add("\n  " + more);
        Add();
        foreach (var line in Lines(duty))
            Add(line);
        foreach (var trouble in duty.Tonight ?? [])
            Add($"Tonight, {At(trouble.At, duty)}: {trouble.Subject} {trouble.Message}. {trouble.Remedy}");
        if (MoreTonight(duty) is { } later)
            Add(later);
        Add();
        foreach (var group in duty.Groups)
            Add($"  {group.Name, -24} {Counted.Of(group.Jobs, "job")}, {group.Stale} stale, {group.WrongLastNight} wrong last night");
        foreach (var row in duty.Board)
            Add($"  {row.Job, -24} newest good copy {Newest(row, duty)}{(row.Stale ? "  STALE" : "")}");
        return text.ToString();
    }

    public static string Html(DutyAnswer duty)
    {
        var page = new HtmlPage(
            Title(duty),
            duty.Alerts.Count == 0 ? "Nothing needs anybody" : Counted.Of(duty.Alerts.Count, "open matter")
        );
        page.Line($"Duty as of {At(duty.AsOf, duty)} ({duty.Zone}).", isSoft: true);
        if (duty.Alerts.Count > 0)
            page.Table(
                "What needs somebody",
                ["What", "About", "Why, and what to do"],
                duty.Alerts.Take(MostAlerts)
                    .Select(a => new[] { Kebab.Of(a.Class), $"{a.Subject.Words}\n{Stands(a, duty)}", $"{a.Message}\n-> {a.Remedy}" })
            );
        if (More(duty) is { } more)
            page.Line(more);
        page.Heading("The night");
        foreach (var line in Lines(duty))
            page.Line(line);
        if (duty.Tonight is { Count: > 0 } tonight)
            page.Table(
                "Tonight",
                ["At", "About", "Why, and what to do"],
                tonight.Select(t => new[] { At(t.At, duty), t.Subject, $"{Sentence.Begin(t.Message)}.\n-> {t.Remedy}" })
            );
        if (MoreTonight(duty) is { } later)
            page.Line(later);
        if (duty.Groups.Count > 0)
            page.Table(
                "Night board",
                [duty.GroupedBy == DutyGrouping.Tag ? "Tag" : "Machine", "#Jobs", "#Stale", "#Wrong last night"],
                duty.Groups.Select(g => new[] { g.Name, $"{g.Jobs}", $"{g.Stale}", $"{g.WrongLastNight}" })
            );
        if (duty.Board.Count > 0)
            page.Table(
                "Night board",
                ["Job", "Machine", "Newest good copy", "Stands"],
                duty.Board.Select(r => new[] { r.Job, r.Machine, Newest(r, duty), r.Stale ? "stale" : "" })
            );
        return page.ToString();
    }

    /// <summary>The sums of the night, what changed, and how the promises stand, each in a sentence.</summary>
    private static IEnumerable<string> Lines(DutyAnswer duty)
    {
        var terms = duty.Outcomes.Where(o => o.Value > 0).Select(o => $"{o.Value} {o.Key}").ToList();
        if (duty.StillRunning > 0)
            terms.Add($"{duty.StillRunning} still running");
        yield return $"Last night ({At(duty.From, duty)} to {At(duty.To, duty)}): {duty.Planned} "
            + $"planned{(terms.Count == 0 ? "" : " = " + string.Join(" + ", terms))}; {duty.Unplanned} unplanned.";
        var since = duty.Since;
        yield return $"Since yesterday: {Counted.Of(since.AlertsOpened, "alert")} opened, {since.AlertsClosed} closed; "
            + $"{Counted.Of(since.CopiesMade, "copy", "copies")} made, {since.CopiesExpired} expired, {since.CopiesGone} freed.";
        if (duty.Promises.Promised > 0)
            yield return $"Promises of freshness kept: {duty.Promises.Promised - duty.Promises.Broken} of {duty.Promises.Promised}.";
    }

    private static string Stands(AlertAnswer a, DutyAnswer duty) =>
        $"{Severities.Words(a.Severity)}, {Counted.Of(a.Count, "time")} since {At(a.OpenedAt, duty)}"
        + (a.AcknowledgedBy is null ? "" : $", seen by {a.AcknowledgedBy}");

    private static string? More(DutyAnswer duty) =>
        duty.Alerts.Count > MostAlerts ? $"{duty.Alerts.Count - MostAlerts} more are open; 'ironkeep duty' lists them all." : null;

    private static string? MoreTonight(DutyAnswer duty) =>
        duty.TonightMore > 0 ? $"{duty.TonightMore} more are expected; 'ironkeep forecast' has them all." : null;

    private static string Newest(DutyJobRow row, DutyAnswer duty) =>
        row.NewestGoodCopy is { } at ? At(at, duty)
        : row.Watched ? "watched"
        : "none";

    private static string At(DateTimeOffset at, DutyAnswer duty) =>
        Moment.Format(Instant.FromDateTimeOffset(at).InZone(DateTimeZoneProviders.Tzdb.GetZoneOrNull(duty.Zone) ?? DateTimeZone.Utc));
}
