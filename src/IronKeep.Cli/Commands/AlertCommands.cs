using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;

namespace IronKeep.Cli.Commands;

internal static class AlertCommands
{
    public static Command Make() => Common.Noun("alert", "Open matters", List(), Acknowledge(), Close());

    private static Command List()
    {
        var all = new Option<bool>("--all") { Description = "Closed ones too" };
        var kind = new Option<string?>("--class")
        {
            Description =
                "Only of this class: failed, missed, overdue, stale, suspect, unsound, nearly-full, braked-prune, silent, sign-ins, "
                + "untold, service or clock",
        };
        return Common.Verb(
            "list",
            "Open alerts",
            async (parsed, client, cancel) =>
            {
                var alerts = await client.ListAsync<AlertAnswer>(
                    (
                        $"alerts?{(parsed.GetValue(all) ? "" : "state=open&")}"
                        + $"{(parsed.GetValue(kind) is { } k ? $"class={Uri.EscapeDataString(k)}" : "")}"
                    ).TrimEnd('&', '?'),
                    1000,
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(alerts);
                else
                    Show.Table(
                        [">alert", "state", "class", "subject", ">times", "since", "message"],
                        alerts.Select(a =>
                            new[]
                            {
                                $"{a.Id}",
                                a.State.Word(),
                                a.Class.Word(),
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
            kind
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
