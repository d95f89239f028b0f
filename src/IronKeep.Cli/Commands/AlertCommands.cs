using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;

namespace IronKeep.Cli.Commands;

internal static class AlertCommands
{
    public static Command Make() =>
        Common.Noun(
            "alert",
            "Open matters",
            List(),
            AlertDetailCommands.One(),
            Acknowledge(),
            AlertDetailCommands.Known(),
            RerunCommands.Rerun(),
            RerunCommands.Wait(),
            AlertDetailCommands.Note(),
            Close()
        );

    private static Command List()
    {
        var all = new Option<bool>("--all") { Description = "Closed ones too" };
        var kind = new Option<string?>("--class")
        {
            Description =
                "Only of this class: failed, missed, overdue, stale, suspect, unsound, nearly-full, braked-prune, silent, sign-ins, "
                + "untold, service or clock",
        };
        var severity = new Option<string?>("--severity")
        {
            Description = "Only what is so grave: notice, failure, broken-promise or danger",
        };
        var job = new Option<string?>("--job") { Description = "Only what concerns this job" };
        var find = new Option<string?>("--find") { Description = "Only what says these words, closed ones too" };
        var since = new Option<string?>("--since")
        {
            Description = "Only what was there since then, closed ones too: a date, or '30 days'",
        };
        return Common.Verb(
            "list",
            "Open alerts; with --find or --since, closed ones too",
            async (parsed, client, cancel) =>
            {
                var past = parsed.GetValue(all) || parsed.GetValue(since) is not null || parsed.GetValue(find) is not null;
                (string Name, string? Value)[] filters =
                [
                    ("state", past ? null : "open"),
                    ("class", parsed.GetValue(kind)),
                    ("severity", parsed.GetValue(severity)),
                    ("job", parsed.GetValue(job)),
                    ("find", parsed.GetValue(find)),
                    ("since", parsed.GetValue(since) is { } s ? $"{Until.ReadPast(s):O}" : null),
                ];
                var query = string.Join(
                    '&',
                    filters.Where(f => f.Value is not null).Select(f => $"{f.Name}={Uri.EscapeDataString(f.Value!)}")
                );
                var alerts = await client.ListAsync<AlertAnswer>(query.Length > 0 ? $"alerts?{query}" : "alerts", 1000, cancel);
                if (Common.AsJson(parsed))
                    Show.Json(alerts);
                else
                    Show.Table(
                        [">alert", "state", "class", "severity", "subject", ">times", "since", "message"],
                        alerts.Select(a =>
                            new[]
                            {
                                $"{a.Id}",
                                a.KnownUntil is { } known ? $"known until {Show.When(known)}"
                                : a.AcknowledgedBy is { } by ? $"{a.State.Word()} by {by}"
                                : a.State.Word(),
                                a.Class.Word(),
                                a.Severity.Word(),
                                a.Subject.Words,
                                $"{a.Count}",
                                Show.When(a.OpenedAt),
                                a.Message,
                            }
                        ),
                        "no open alerts"
                    );
                return alerts.Any(a => a.State != AlertState.Closed) ? Root.Findings : Root.Done;
            },
            all,
            kind,
            severity,
            job,
            find,
            since
        );
    }

    private static Command Close()
    {
        var id = new Argument<long>("ALERT") { Description = "The alert's number" };
        var reason = new Option<string>("--reason") { Description = "Why it can be closed", Required = true };
        return Common.Verb(
            "close",
            "Closes an alert that nothing else will close; the reason is kept",
            async (parsed, client, cancel) =>
            {
                var alert = await client.PostAsync<AlertAnswer>(
                    $"alerts/{parsed.GetValue(id)}/close",
                    new AlertCloseRequest(parsed.GetValue(reason)!),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(alert);
                else
                    Show.Line(
                        $"Alert {alert.Id} ({alert.Class.Word()}, {alert.Subject.Words}) closed by {alert.ClosedBy}: {alert.ClosedReason}"
                    );
                return Root.Done;
            },
            id,
            reason
        );
    }

    private static Command Acknowledge()
    {
        var id = new Argument<long>("ALERT") { Description = "The alert's number" };
        return Common.Verb(
            "acknowledge",
            "Says that you have seen an alert; the next good run closes it",
            async (parsed, client, cancel) =>
            {
                var alert = await client.PostAsync<AlertAnswer>($"alerts/{parsed.GetValue(id)}/acknowledge", null, cancel);
                if (Common.AsJson(parsed))
                    Show.Json(alert);
                else
                    Show.Line($"Alert {alert.Id} ({alert.Class.Word()}, {alert.Subject.Words}) acknowledged by {alert.AcknowledgedBy}");
                return Root.Done;
            },
            id
        );
    }
}
