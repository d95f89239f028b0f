using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;

namespace IronKeep.Cli.Commands;

/// <summary>One alert with all that helps to settle it, and what a person does about it.</summary>
internal static class AlertDetailCommands
{
    private static Argument<long> Id => new("ALERT") { Description = "The alert's number" };

    public static Command One()
    {
        var id = Id;
        return Common.Verb(
            "show",
            "One alert: why, what to do, what it concerns, what was done, and the same trouble before",
            async (parsed, client, cancel) =>
            {
                var whole = await client.GetAsync<AlertWholeAnswer>($"alerts/{parsed.GetValue(id)}", cancel);
                if (Common.AsJson(parsed))
                    Show.Json(whole);
                else
                    Print(whole);
                return whole.Alert.State == AlertState.Closed ? Root.Done : Root.Findings;
            },
            id
        );
    }

    private static void Print(AlertWholeAnswer whole)
    {
        var a = whole.Alert;
        Show.Line(
            $"Alert {a.Id}  {a.Subject.Words}  {a.Class.Word().ToUpperInvariant()}, {Severities.Words(a.Severity)}, {a.State.Word()}"
        );
        Show.Line($"  {a.Message}");
        if (a.State != AlertState.Closed)
            Show.Line($"  what to do: {a.Remedy}");
        Show.Line($"  open since {Show.When(a.OpenedAt)}, {Counted.Of(a.Count, "time")}, the last {Show.When(a.LastAt)}");
        if (a.KnownUntil is { } until)
            Show.Line($"  known to {a.KnownBy} until {Show.When(until)}: {a.KnownReason}");
        // A run's last line is mostly the sentence that stands above it.
        foreach (var line in whole.Lines.Where(l => l.Text != a.Message))
            Show.Line($"  log      {line.Text}");
        foreach (var job in whole.Jobs)
            Show.Line(
                $"  job      {job.Job} on {job.Machine}: newest good copy {Show.When(job.NewestGoodCopy)}"
                    + (job.FreshWithin is { } promise ? $", {promise} promised{(job.Stale ? " and broken" : "")}" : "")
                    + (job.LastRun is { } run ? $"; run {run.Id} {Show.Stands(run)}" : "")
            );
        foreach (var copy in whole.Copies.Take(5))
        {
            Show.Line($"  copy     {copy.Id} of {copy.Job} on {copy.Machine} cannot give back {Counted.Of(copy.Files, "file")}:");
            foreach (var path in copy.Paths.Take(3))
                Show.Line($"           {path}");
        }
        if (whole.Copies.Count > 5)
            Show.Line($"  and {Counted.Of(whole.Copies.Count - 5, "more copy", "more copies")}: ironkeep copy list --state unsound");
        foreach (var ticket in whole.Tickets)
            Show.Line(
                $"  ticket   {ticket.Reference ?? "without a reference"} in {ticket.Channel}, opened {Show.When(ticket.OpenedAt)}"
                    + (ticket.ClosedAt is { } closed ? $", closed {Show.When(closed)}" : "")
                    + (ticket.Page is { } page ? $"\n           {page}" : "")
            );
        foreach (var deed in whole.Deeds)
            Show.Line(
                $"  {Show.When(deed.At)}  {Words(deed.Kind)}{(deed.By is null ? "" : $" by {deed.By}")}"
                    + (deed.Words is null || deed.Words == a.Message ? "" : $": {deed.Words}")
                    + (deed.RunId is { } of ? $" (run {of}{Stand(deed.RunState, deed.Outcome)})" : "")
            );
        if (whole.TimesBefore == 0)
            return;
        Show.Line($"  the same happened {Counted.Of(whole.TimesBefore, "time")} within the last year:");
        foreach (var before in whole.Before.Take(5))
        {
            Show.Line(
                $"    {Show.When(before.OpenedAt)}  alert {before.Id}, open for {Show.Took(before.OpenSeconds)}, "
                    + (before.ClosedBy is { } by ? $"closed by {by}: {before.ClosedReason}" : "ended by itself")
            );
            foreach (var tried in before.Tried)
                Show.Line($"      {tried.By} ran it again: run {tried.RunId}{Stand(tried.State, tried.Outcome)}");
            foreach (var note in before.Notes)
                Show.Line($"      {note}");
        }
    }

    /// <summary>How a run stands, behind its number; nothing where it is forgotten.</summary>
    private static string Stand(RunState? state, Outcome? outcome) =>
        outcome is { } ended ? $", {ended.Word()}"
        : state is { } now ? $", {now.Word()}"
        : "";

    private static string Words(AlertDeedKind kind) =>
        kind switch
        {
            AlertDeedKind.Known => "known",
            AlertDeedKind.Escalated => "told to others",
            AlertDeedKind.KnownOver => "known no longer",
            AlertDeedKind.Rerun => "run again",
            AlertDeedKind.Noted => "note",
            _ => kind.Word(),
        };

    public static Command Known()
    {
        var id = Id;
        var reason = new Option<string>("--reason") { Description = "Why nobody needs to be told", Required = true };
        var until = Until.Option("Until when: a date, a date and time, or a span such as '3 days'");
        return Common.Verb(
            "known",
            "Silences an alert until a date; it is told again afterwards if it is there still",
            async (parsed, client, cancel) =>
            {
                var alert = await client.PostAsync<AlertAnswer>(
                    $"alerts/{parsed.GetValue(id)}/known",
                    new AlertKnownRequest(parsed.GetValue(reason)!, Until.Read(parsed.GetValue(until)!)),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(alert);
                else
                    Show.Line(
                        $"Alert {alert.Id} ({alert.Subject.Words}) is known until {Show.When(alert.KnownUntil)}; nobody is told before"
                    );
                return Root.Done;
            },
            id,
            reason,
            until
        );
    }

    public static Command Note()
    {
        var id = Id;
        var words = new Argument<string>("WORDS") { Description = "What you found, or what helped" };
        return Common.Verb(
            "note",
            "Puts your words to an alert, open or closed, for whoever meets the same again",
            async (parsed, client, cancel) =>
            {
                await client.PostAsync<object>(
                    $"alerts/{parsed.GetValue(id)}/notes",
                    new AlertNoteRequest(parsed.GetValue(words)!),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(await client.GetAsync<AlertWholeAnswer>($"alerts/{parsed.GetValue(id)}", cancel));
                else
                    Show.Line($"Noted at alert {parsed.GetValue(id)}");
                return Root.Done;
            },
            id,
            words
        );
    }
}
