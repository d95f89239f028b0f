using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

/// <summary>Running again what an alert is about, or waiting for its next run.</summary>
internal static class RerunCommands
{
    private static Argument<long> Id => new("ALERT") { Description = "The alert's number" };

    public static Command Rerun()
    {
        var id = Id;
        var job = new Option<string?>("--job") { Description = "Only this job, where one cause stopped several" };
        var then = new Option<bool>("--settings-then") { Description = "With the settings of the run that failed, not with today's" };
        var window = new Option<bool>("--in-window") { Description = "When the job's quiet hours are over, not at once" };
        var preview = new Option<bool>("--preview") { Description = "Only says what would happen" };
        return Common.Verb(
            "rerun",
            "Runs again the job of an alert, or every job that its cause stopped",
            async (parsed, client, cancel) =>
            {
                var query = new List<string>();
                if (parsed.GetValue(job) is { } name)
                    query.Add($"job={Uri.EscapeDataString(name)}");
                if (parsed.GetValue(then))
                    query.Add("settings=then");
                if (parsed.GetValue(window))
                    query.Add("when=window");
                var path = $"alerts/{parsed.GetValue(id)}/reruns{(query.Count > 0 ? "?" : "")}{string.Join('&', query)}";
                if (parsed.GetValue(preview))
                {
                    var would = await client.GetAsync<AlertRerunPreview>(path, cancel);
                    if (Common.AsJson(parsed))
                        Show.Json(would);
                    else
                        foreach (var one in would.Jobs)
                            Print(one);
                    return Root.Done;
                }
                var answer = await client.PostAsync<AlertRerunAnswer>(path, null, cancel);
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                {
                    foreach (var run in answer.Runs)
                        Show.Line(
                            $"Job {run.Job} queued as run {run.Id}"
                                + (run.NotBefore is { } at ? $", to begin {Show.When(at)}" : "")
                                + $"; follow it with 'ironkeep run watch {run.Id}'"
                        );
                    foreach (var refused in answer.Refused)
                        Show.Error(refused);
                }
                return answer.Refused.Count > 0 ? Root.Refused : Root.Done;
            },
            id,
            job,
            then,
            window,
            preview
        );
    }

    private static void Print(AlertRerunJob job)
    {
        if (job.Refused is { } refused)
        {
            Show.Line(Sentence.Begin(refused));
            return;
        }
        Show.Line($"{job.Job} on {job.Machine}");
        if (job.RunId is { } run)
            Show.Line(
                job.Revision is null ? $"  The settings of run {run} are not known any more."
                : job.Changes.Count == 0 ? $"  Nothing that a run goes by has changed since run {run}."
                : $"  Since run {run} (revision {job.Revision} of the charter) this has changed; --settings-then runs it as it was:"
            );
        foreach (var change in job.Changes)
            Show.Line($"    {change.Field}: {change.Before ?? "(not set)"} then, {change.After ?? "(not set)"} today");
        if (job.WindowOpens is { } opens)
            Show.Line($"  It lies in {job.Window}; --in-window begins it {Show.When(opens)}.");
        if (job.NextDue is { } next)
            Show.Line($"  Its next planned run is due {Show.When(next)}.");
    }

    public static Command Wait()
    {
        var id = Id;
        return Common.Verb(
            "wait",
            "Waits for the next planned run: nobody is told of the alert until it should be over",
            async (parsed, client, cancel) =>
            {
                var alert = await client.PostAsync<AlertAnswer>($"alerts/{parsed.GetValue(id)}/wait", null, cancel);
                if (Common.AsJson(parsed))
                    Show.Json(alert);
                else
                    Show.Line(
                        $"Alert {alert.Id} {alert.KnownReason}; if it is there still {Show.When(alert.KnownUntil)}, it is told again"
                    );
                return Root.Done;
            },
            id
        );
    }
}
