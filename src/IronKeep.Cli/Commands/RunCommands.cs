using System.CommandLine;
using System.Globalization;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;

namespace IronKeep.Cli.Commands;

internal static class RunCommands
{
    public static Command Make() =>
        Common.Noun("run", "Attempts: of backups, checks, prunes, restores", List(), Waiting(), One(), Log(), Watch(), Cancel(), Confirm());

    private static Argument<long> Id => new("RUN") { Description = "The run's number" };

    private static Command List()
    {
        var job = new Option<string?>("--job") { Description = "Only of this job" };
        var kind = new Option<string?>("--kind") { Description = "backup, check, prune, reclaim or restore" };
        var outcome = new Option<string?>("--outcome")
        {
            Description = "ok, warned, suspect, failed, timed-out, refused, held-back, not-needed or cancelled",
        };
        var most = new Option<int>("--most") { Description = "How many", DefaultValueFactory = _ => 30 };
        return Common.Verb(
            "list",
            "Runs, newest first",
            async (parsed, client, cancel) =>
            {
                var query = new List<string>();
                if (parsed.GetValue(job) is { } j)
                    query.Add($"job={Uri.EscapeDataString(j)}");
                if (parsed.GetValue(kind) is { } k)
                    query.Add($"kind={Uri.EscapeDataString(k)}");
                if (parsed.GetValue(outcome) is { } o)
                    query.Add($"outcome={Uri.EscapeDataString(o)}");
                var runs = await client.ListAsync<RunAnswer>($"runs?{string.Join('&', query)}", parsed.GetValue(most), cancel);
                if (Common.AsJson(parsed))
                    Show.Json(runs);
                else
                    Show.Table(
                        [">run", "kind", "of", "by", "outcome", "began", ">took", ">items", ">taken", ">new", "sentence"],
                        runs.Select(r =>
                            new[]
                            {
                                $"{r.Id}",
                                r.Kind.Word(),
                                r.Job ?? r.Store ?? "",
                                r.By.Words,
                                Show.Stands(r),
                                Show.When(r.Began),
                                Show.Took(r.Figures.ElapsedSeconds),
                                $"{r.Figures.Items}",
                                Show.Size(r.Figures.SelectedBytes),
                                Show.Size(r.Figures.NewBytes),
                                Brief(r.Sentence),
                            }
                        ),
                        "no runs yet; run a job with 'ironkeep job run NAME'"
                    );
                return Root.Done;
            },
            job,
            kind,
            outcome,
            most
        );
    }

    private static Command Waiting() =>
        Common.Verb(
            "waiting",
            "The runs that wait, in the order in which they would begin, and what each waits for",
            async (parsed, client, cancel) =>
            {
                var answer = await client.GetAsync<WaitingAnswer>("runs/waiting", cancel);
                if (Common.AsJson(parsed))
                {
                    Show.Json(answer);
                    return Root.Done;
                }
                Show.Table(
                    [">run", "of", "machine", "waits for", "begins about", ">importance", "due"],
                    answer.Runs.Select(r =>
                        new[]
                        {
                            $"{r.Id}",
                            r.Kind == RunKind.Backup ? r.Job ?? "" : $"{r.Kind.Word()} {r.Job ?? r.Store}",
                            r.Machine,
                            r.WaitsFor,
                            r.AboutAt is { } at ? Show.When(at) : "cannot be told",
                            $"{r.Importance}",
                            r.Due is { } due ? Show.When(due) : "",
                        }
                    ),
                    $"No run waits; {Counted.Of(answer.AtWork, "run")} at work."
                );
                if (answer.Count > answer.Runs.Count)
                    Show.Line($"and {answer.Count - answer.Runs.Count} more");
                return Root.Done;
            }
        );

    private static Command One()
    {
        var id = Id;
        return Common.Verb(
            "show",
            "One run with its figures",
            async (parsed, client, cancel) =>
            {
                var run = await client.GetAsync<RunAnswer>($"runs/{parsed.GetValue(id)}", cancel);
                if (Common.AsJson(parsed))
                    Show.Json(run);
                else
                    await Watching.ReportAsync(client, run, cancel);
                return Watching.ExitOf(run);
            },
            id
        );
    }

    private static Command Log()
    {
        var id = Id;
        var severity = new Option<string>("--severity")
        {
            Description = "Lines that are at least so severe: info, warning or error",
            DefaultValueFactory = _ => "info",
        };
        return Common.Verb(
            "log",
            "A run's log",
            async (parsed, client, cancel) =>
            {
                var lines = new List<RunLogLine>();
                for (var from = 0; ; )
                {
                    var part = await client.GetAsync<RunLogAnswer>(
                        $"runs/{parsed.GetValue(id)}/log?from={from}&severity={Uri.EscapeDataString(parsed.GetValue(severity)!)}",
                        cancel
                    );
                    lines.AddRange(part.Lines);
                    from = part.Next;
                    if (!part.More)
                        break;
                }
                if (Common.AsJson(parsed))
                    Show.Json(lines);
                else
                    foreach (var line in lines)
                        Show.Line($"{Show.ToTheSecond(line.At)}  {line.Severity, -7}  {line.Text}");
                return Root.Done;
            },
            id,
            severity
        );
    }

    private static Command Watch()
    {
        var id = Id;
        return Common.Verb(
            "watch",
            "Follows a run to its end",
            (parsed, client, cancel) => Watching.FollowAsync(client, parsed.GetValue(id), Common.AsJson(parsed), cancel),
            id
        );
    }

    private static Command Cancel()
    {
        var id = Id;
        return Common.Verb(
            "cancel",
            "Ends a queued or running run",
            async (parsed, client, cancel) =>
            {
                var run = await client.PostAsync<RunAnswer>($"runs/{parsed.GetValue(id)}/cancel", null, cancel);
                if (Common.AsJson(parsed))
                    Show.Json(run);
                else
                    Show.Line($"Run {run.Id} is being cancelled; earlier copies stay as they are");
                return Root.Done;
            },
            id
        );
    }

    private static Command Confirm()
    {
        var id = Id;
        return Common.Verb(
            "confirm",
            "Says that a suspect run is right as it is; what is usual is learned anew from it on",
            async (parsed, client, cancel) =>
            {
                var run = await client.PostAsync<RunAnswer>($"runs/{parsed.GetValue(id)}/confirm", null, cancel);
                if (Common.AsJson(parsed))
                    Show.Json(run);
                else
                    Show.Line(
                        $"Run {run.Id} of {run.Job} is confirmed by {run.ConfirmedBy}; the copy before it may expire again by its policy"
                    );
                return Root.Done;
            },
            id
        );
    }

    private static string Brief(string? text) =>
        text is null ? ""
        : text.Length <= 60 ? text
        : text[..57] + "...";
}
