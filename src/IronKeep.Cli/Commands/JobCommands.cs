using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;

namespace IronKeep.Cli.Commands;

internal static class JobCommands
{
    public static Command Make() => Common.Noun("job", "What is backed up, when, to where", List(), One(), RunNow(), Pause(), Resume());

    private static Argument<string> Name => new("NAME") { Description = "The job's name" };

    private static Command List() => Common.Verb("list", "All jobs and where they stand", async (parsed, client, cancel) =>
    {
        var jobs = await client.GetAsync<IReadOnlyList<JobAnswer>>("jobs", cancel);
        if (Common.AsJson(parsed)) Show.Json(jobs);
        else Show.Table(["job", "machine", "when", "last run", "ended", "newest good copy", ">copies", "next due"],
            jobs.Select(j => new[]
            {
                j.Name, j.Machine, (j.When ?? (j.After is null ? "by hand" : $"after {j.After}")) + (j.Pause is null ? "" : " (paused)"), j.LastRun?.Outcome ?? j.LastRun?.State ?? "-", Show.When(j.LastRun?.Ended),
                Show.When(j.NewestGoodCopy?.Taken) + (j.Stale ? " (stale)" : ""), $"{j.Copies}", j.NextDue.Count > 0 ? j.NextDue[0].Local : "-",
            }), "no jobs yet; declare them in a charter and apply it with 'ironkeep charter apply FILE'");
        return Root.Done;
    });

    private static Command One()
    {
        var name = Name;
        return Common.Verb("show", "One job", async (parsed, client, cancel) =>
        {
            var job = await client.GetAsync<JobAnswer>($"jobs/{Uri.EscapeDataString(parsed.GetValue(name)!)}", cancel);
            if (Common.AsJson(parsed))
            {
                Show.Json(job);
                return Root.Done;
            }
            Show.Line($"{job.Name} on {job.Machine}");
            Show.Line($"  takes        {string.Join(", ", job.Takes)}");
            if (job.LeavesOut.Count > 0) Show.Line($"  leaves out   {string.Join(", ", job.LeavesOut)}");
            Show.Line($"  into         {string.Join(", ", job.Into)}");
            Show.Line($"  when         {job.When ?? (job.After is null ? "by hand only" : $"after {job.After} has succeeded")} ({job.Zone})");
            if (job.Pause is { } pause) Show.Line($"  PAUSED       by {pause.By} until {Show.When(pause.Until)}: {pause.Reason}");
            foreach (var due in job.NextDue) Show.Line($"    due        {due.Local}   {due.Utc:yyyy-MM-dd HH:mm}Z");
            Show.Line($"  policy       {job.Policy}: {job.Keep}");
            Show.Line($"  fresh within {job.FreshWithin ?? "no limit"}{(job.Stale ? "  STALE: the newest good copy is older" : "")}");
            Show.Line($"  copies       {job.Copies}, the newest good one taken {Show.When(job.NewestGoodCopy?.Taken)}");
            if (job.LastRun is { } run) Show.Line($"  last run     {run.Id}: {run.Outcome ?? run.State}. {run.Sentence}");
            return Root.Done;
        }, name);
    }

    private static Command RunNow()
    {
        var name = Name;
        var watch = new Option<bool>("--watch") { Description = "Stay, show the progress, and end with the run's outcome" };
        return Common.Verb("run", "Runs a job now", async (parsed, client, cancel) =>
        {
            var run = await client.PostAsync<RunAnswer>($"jobs/{Uri.EscapeDataString(parsed.GetValue(name)!)}/runs", null, cancel);
            if (parsed.GetValue(watch)) return await Watching.FollowAsync(client, run.Id, Common.AsJson(parsed), cancel);
            if (Common.AsJson(parsed)) Show.Json(run);
            else Show.Line($"run {run.Id} of {run.Job} is queued; follow it with 'ironkeep run watch {run.Id}'");
            return Root.Done;
        }, name, watch);
    }

    private static Command Pause()
    {
        var name = Name;
        var reason = new Option<string>("--reason") { Description = "Why, in a few words", Required = true };
        var until = Until.Option("Until when: a date, a date and time, or a span such as '3 days'");
        return Common.Verb("pause", "Holds back the planned runs of a job until a date", async (parsed, client, cancel) =>
        {
            var job = await client.PutAsync<JobAnswer>($"jobs/{Uri.EscapeDataString(parsed.GetValue(name)!)}/pause", new PauseRequest(parsed.GetValue(reason)!, Until.Read(parsed.GetValue(until)!)), cancel);
            if (Common.AsJson(parsed)) Show.Json(job);
            else Show.Line($"job {job.Name} is paused until {Show.When(job.Pause?.Until)}; its planned runs are held back and say why");
            return Root.Done;
        }, name, reason, until);
    }

    private static Command Resume()
    {
        var name = Name;
        return Common.Verb("resume", "Ends a job's pause", async (parsed, client, cancel) =>
        {
            var job = await client.DeleteAsync<JobAnswer>($"jobs/{Uri.EscapeDataString(parsed.GetValue(name)!)}/pause", cancel);
            if (Common.AsJson(parsed)) Show.Json(job);
            else Show.Line($"job {job.Name} is not paused; next due {(job.NextDue.Count > 0 ? job.NextDue[0].Local : "when somebody asks")}");
            return Root.Done;
        }, name);
    }
}
