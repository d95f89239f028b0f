using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Cli.Shell;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;

namespace IronKeep.Cli.Commands;

internal static class JobCommands
{
    public static Command Make() =>
        Common.Noun(
            "job",
            "What is backed up, when, to where",
            List(),
            One(),
            When(),
            RunNow(),
            CheckIn(),
            Address(),
            Pause(),
            NextFull(),
            Resume(),
            HoldExpiry(),
            LetExpire()
        );

    private static Argument<string> Name => CompletionCommand.Job(new("NAME") { Description = "The job's name" });

    /// <summary>Which of its machines is meant, of a job that is on several.</summary>
    internal static Option<string?> On => new("--on") { Description = "On which machine, of a job that is on several" };

    /// <summary>The address of a job on a machine, or of something about it.</summary>
    internal static string At(string job, string? machine, string what = "", string more = "") =>
        $"jobs/{Uri.EscapeDataString(job)}{what}"
        + (machine is null ? "" : $"?on={Uri.EscapeDataString(machine)}")
        + (more.Length == 0 ? "" : $"{(machine is null ? "?" : "&")}{more}");

    private static Command List() => Common.Verb("list", "All jobs and where they stand", async (parsed, client, cancel) =>
        {
            var jobs = await client.GetAsync<IReadOnlyList<JobAnswer>>("jobs", cancel);
            if (Common.AsJson(parsed))
                Show.Json(jobs);
            else
                Show.Table(
                    ["job", "machine", "when", "last run", "ended", "newest good copy", ">copies", "next due"],
                    jobs.Select(j =>
                        new[]
                        {
                            j.Name,
                            j.Machine,
                            (j.When ?? (j.After is null ? "by hand" : $"after {j.After}")) + (j.Pause is null ? "" : " (paused)"),
                            j.LastRun is { } last ? Show.Stands(last) : "-",
                            Show.When(j.LastRun?.Ended),
                            Show.When(j.NewestGoodCopy?.Taken) + (j.Stale ? " (stale)" : ""),
                            $"{j.Copies}",
                            j.NextDue.Count > 0 ? Show.Zoned(j.NextDue[0].Local) : "-",
                        }
                    ),
                    "no jobs yet; declare them in a charter and apply it with 'ironkeep charter apply FILE'"
                );
            return Root.Done;
        });

    private static Command One()
    {
        var (name, on) = (Name, On);
        return Common.Verb(
            "show",
            "One job: when it is due, how fresh its copies are, what it keeps; with --on every value on a machine and where it comes from",
            async (parsed, client, cancel) =>
            {
                var job = await client.GetAsync<JobAnswer>(At(parsed.GetValue(name)!, parsed.GetValue(on)), cancel);
                if (Common.AsJson(parsed))
                {
                    Show.Json(job);
                    return Root.Done;
                }
                Show.Line($"{job.Name} on {job.Machine}{(job.OnSeveral is null ? "" : $", one of several: {job.OnSeveral}")}");
                if (parsed.GetValue(on) is not null)
                {
                    Show.Table(["value", "is", "from"], job.Values!.Select(v => new[] { v.Key, v.Text, v.From }), "nothing is said of it");
                    return Root.Done;
                }
                if (job.Watched)
                    Show.Line(
                        $"  watched      something else carries it out; heard by {string.Join(", ", job.HeardBy.Select(h => Kebab.Of(h)))}"
                    );
                foreach (var log in job.Logs.Concat(job.Syslog.Select(s => $"{s} in syslog")))
                    Show.Line($"  its log      {log}");
                if (job.Note is not null)
                    Show.Line($"  note         {job.Note}");
                if (job.Takes.Count > 0)
                    Show.Line($"  takes        {string.Join(", ", job.Takes)}");
                foreach (var (when, steps) in StepsOf(job).Where(s => s.Steps.Count > 0))
                    Show.Line($"  {when, -13}{string.Join(", ", steps)}");
                if (job.LeavesOut.Count > 0)
                    Show.Line($"  leaves out   {string.Join(", ", job.LeavesOut)}");
                if (job.Into.Count > 0)
                    Show.Line($"  {(job.Watched ? "copies in" : "into     ")}    {string.Join(", ", job.Into)}");
                Show.Line(
                    $"  when         {job.When ?? (job.After is null ? "by hand only" : $"after {job.After} has succeeded")} ({job.Zone})"
                );
                if (job.Partials is { } partials)
                    Show.Line($"  copies are   {partials}{(job.FullAskedBy is { } by ? $"; the next is full, {by} asked for it" : "")}");
                if (job.Pause is { } pause)
                    Show.Line($"  PAUSED       by {pause.By} until {Show.When(pause.Until)}: {pause.Reason}");
                if (job.ExpiryHold is { } hold)
                    Show.Line($"  EXPIRY HELD  by {hold.By} until {Show.When(hold.Until)}: {hold.Reason}");
                foreach (var due in job.NextDue)
                    Show.Line($"    due        {Show.Zoned(due.Local)}   {due.Utc:yyyy-MM-dd HH:mm}Z");
                if (job.Watched)
                {
                    Show.Line(
                        job.LastRun is { } heard
                            ? $"  last heard   run {heard.Id}: {Show.Stands(heard)}. {heard.Sentence}"
                            : "  last heard   not yet"
                    );
                    if (job.Into.Count == 0)
                        return Root.Done;
                }
                Show.Line($"  policy       {job.Policy}: {job.Keep}");
                Show.Line($"  fresh within {job.FreshWithin ?? "no limit"}{(job.Stale ? "  STALE: the newest good copy is older" : "")}");
                Show.Line($"  copies       {job.Copies}, the newest good one taken {Show.When(job.NewestGoodCopy?.Taken)}");
                if (!job.Watched && job.LastRun is { } run)
                    Show.Line($"  last run     {run.Id}: {Show.Stands(run)}. {run.Sentence}");
                return Root.Done;
            },
            name,
            on
        );
    }

    private static Command When()
    {
        var (name, on) = (Name, On);
        var asOf = new Option<string?>("--as-of")
        {
            Description = "The instant to look from: a date, a date and time, or an RFC 3339 instant; else now",
        };
        return Common.Verb(
            "when",
            "When a job is due around an instant, and why it was or was not",
            async (parsed, client, cancel) =>
            {
                var at = parsed.GetValue(asOf) is { } text ? $"asOf={Until.Read(text).UtcDateTime:yyyy-MM-ddTHH:mm:ssZ}" : "";
                var answer = await client.GetAsync<JobWhenAnswer>(At(parsed.GetValue(name)!, parsed.GetValue(on), "/when", at), cancel);
                if (Common.AsJson(parsed))
                {
                    Show.Json(answer);
                    return Root.Done;
                }
                Show.Line($"{answer.Job} on {answer.Machine}: {answer.Words}  ({answer.Zone})");
                foreach (var fact in answer.Facts)
                    Show.Line($"  {fact}");
                Show.Table(
                    ["", "Local", "UTC", "What became of it", "Why"],
                    answer
                        .Before.Select(d => Row("before", d))
                        .Append(["as of", "", Utc(answer.AsOf), "", ""])
                        .Concat(answer.After.Select(d => Row("after", d))),
                    "is never due"
                );
                return Root.Done;
            },
            name,
            on,
            asOf
        );

        static string[] Row(string side, DueWhy d) =>
            [
                side,
                Show.Zoned(d.Local),
                Utc(d.Utc),
                d.Dropped ? "dropped" : d.Outcome.Word() ?? (d.RunId is null ? "-" : "at work"),
                string.Join("; ", new[] { d.Why, d.Reason }.Where(w => w is not null)),
            ];

        static string Utc(DateTimeOffset at) =>
            at.UtcDateTime.ToString("yyyy-MM-dd HH:mm'Z'", System.Globalization.CultureInfo.InvariantCulture);
    }

    private static Command CheckIn()
    {
        var (name, on) = (Name, On);
        var started = new Option<bool>("--started") { Description = "It has started; without this, it has ended" };
        var exitCode = new Option<int>("--exit-code") { Description = "How it ended: 0 is well", DefaultValueFactory = _ => 0 };
        var note = new Option<string?>("--note") { Description = "A word about it" };
        return Common.Verb(
            "check-in",
            "Says for a watched job that it started, or ended and how",
            async (parsed, client, cancel) =>
            {
                var ended = !parsed.GetValue(started);
                var answer = await client.PostAsync<CheckInAnswer>(
                    At(parsed.GetValue(name)!, parsed.GetValue(on), "/check-ins"),
                    new CheckInRequest(
                        ended ? CheckInState.Ended : CheckInState.Started,
                        ended ? parsed.GetValue(exitCode) : null,
                        parsed.GetValue(note)
                    ),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    Show.Line(
                        answer.Due is null
                            ? $"{answer.Job}: no planned run is open, so this counts as unplanned"
                            : $"{answer.Job}, due {Show.When(answer.Due)}: {answer.Outcome.Word() ?? "at work"}"
                    );
                return Root.Done;
            },
            name,
            on,
            started,
            exitCode,
            note
        );
    }

    private static Command Address()
    {
        var (name, on) = (Name, On);
        var takeBack = new Option<bool>("--take-back") { Description = "Take the address out of use at once" };
        return Common.Verb(
            "address",
            "Makes the secret address at which a watched job checks in; the one before is out of use",
            async (parsed, client, cancel) =>
            {
                var path = At(parsed.GetValue(name)!, parsed.GetValue(on), "/check-in-address");
                if (parsed.GetValue(takeBack))
                {
                    await client.DeleteAsync<object>(path, cancel);
                    Show.Line("The address is out of use.");
                    return Root.Done;
                }
                var made = await client.PostAsync<CheckInAddressAnswer>(path, null, cancel);
                if (Common.AsJson(parsed))
                    Show.Json(made);
                else
                {
                    Show.Line($"{client.Address}{made.Path}");
                    Show.Line(
                        "It is shown this once. Whoever has it can report for this job, and do nothing else. In a crontab on the job's "
                            + "machine, at the end of the line:"
                    );
                    Show.Line($"  COMMAND && curl -fsS -m 10 --retry 3 {client.Address}{made.Path}");
                }
                return Root.Done;
            },
            name,
            on,
            takeBack
        );
    }

    private static Command RunNow()
    {
        var (name, on) = (Name, On);
        return Common.Verb(
            "run",
            "Runs a job now and stays until it has ended",
            async (parsed, client, cancel) =>
            {
                var run = await client.PostAsync<RunAnswer>(At(parsed.GetValue(name)!, parsed.GetValue(on), "/runs"), null, cancel);
                return await Watching.BegunAsync(parsed, client, run, cancel);
            },
            name,
            on,
            Watching.NoWait
        );
    }

    private static Command Pause()
    {
        var (name, on) = (Name, On);
        var reason = new Option<string>("--reason") { Description = "Why, in a few words", Required = true };
        var until = Until.Option("Until when: a date, a date and time, or a span such as '3 days'");
        return Common.Verb(
            "pause",
            "Holds back the planned runs of a job until a date",
            async (parsed, client, cancel) =>
            {
                var job = await client.PutAsync<JobAnswer>(
                    At(parsed.GetValue(name)!, parsed.GetValue(on), "/pause"),
                    new PauseRequest(parsed.GetValue(reason)!, Until.Read(parsed.GetValue(until)!)),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(job);
                else
                    Show.Line($"Job {job.Name} is paused until {Show.When(job.Pause?.Until)}; its planned runs are held back and say why");
                return Root.Done;
            },
            name,
            on,
            reason,
            until
        );
    }

    private static Command HoldExpiry()
    {
        var (name, on) = (Name, On);
        var reason = new Option<string>("--reason") { Description = "Why, in a few words", Required = true };
        var until = Until.Option("Until when: a date, a date and time, or a span such as '3 days'");
        var alert = new Option<long?>("--alert") { Description = "The alert that gives rise to it, on which it is noted" };
        return Common.Verb(
            "hold-expiry",
            "Lets nothing of a job expire until a date, whatever its policy says",
            async (parsed, client, cancel) =>
            {
                var job = parsed.GetValue(name)!;
                var hold = await client.PutAsync<ExpiryHoldAnswer>(
                    At(job, parsed.GetValue(on), "/expiry-hold"),
                    new ExpiryHoldRequest(parsed.GetValue(reason)!, Until.Read(parsed.GetValue(until)!), parsed.GetValue(alert)),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(hold);
                else
                    Show.Line($"Nothing of job {job} expires until {Show.When(hold.Until)}");
                return Root.Done;
            },
            name,
            on,
            reason,
            until,
            alert
        );
    }

    private static Command LetExpire()
    {
        var (name, on) = (Name, On);
        return Common.Verb(
            "let-expire",
            "Ends the hold of a job's expiry; its policy decides again",
            async (parsed, client, cancel) =>
            {
                var job = parsed.GetValue(name)!;
                var held = await client.DeleteAsync<ExpiryHoldAnswer>(At(job, parsed.GetValue(on), "/expiry-hold"), cancel);
                if (Common.AsJson(parsed))
                    Show.Json(held);
                else
                    Show.Line($"Expiry of job {job} is not held any more; its policy decides");
                return Root.Done;
            },
            name,
            on
        );
    }

    private static Command NextFull()
    {
        var (name, on) = (Name, On);
        var not = new Option<bool>("--not") { Description = "Takes it back" };
        return Common.Verb(
            "next-full",
            "Makes the next copy of a job that makes partial ones a full one, once",
            async (parsed, client, cancel) =>
            {
                var path = At(parsed.GetValue(name)!, parsed.GetValue(on), "/next-full");
                var job = parsed.GetValue(not)
                    ? await client.DeleteAsync<JobAnswer>(path, cancel)
                    : await client.PostAsync<JobAnswer>(path, null, cancel);
                if (Common.AsJson(parsed))
                    Show.Json(job);
                else
                    Show.Line(
                        job.FullAskedBy is null
                            ? $"The next copy of {job.Name} is what its charter says: {job.Partials}"
                            : $"The next copy of {job.Name} is a full one, by {job.FullAskedBy}'s wish; after that: {job.Partials}"
                    );
                return Root.Done;
            },
            name,
            on,
            not
        );
    }

    private static Command Resume()
    {
        var (name, on) = (Name, On);
        return Common.Verb(
            "resume",
            "Ends a job's pause",
            async (parsed, client, cancel) =>
            {
                var job = await client.DeleteAsync<JobAnswer>(At(parsed.GetValue(name)!, parsed.GetValue(on), "/pause"), cancel);
                if (Common.AsJson(parsed))
                    Show.Json(job);
                else
                    Show.Line(
                        $"Job {job.Name} is not paused; next due "
                            + $"{(job.NextDue.Count > 0 ? Show.Zoned(job.NextDue[0].Local) : "when somebody asks")}"
                    );
                return Root.Done;
            },
            name,
            on
        );
    }

    private static IEnumerable<(string When, IReadOnlyList<string> Steps)> StepsOf(JobAnswer job)
    {
        yield return ("streams", job.Streams);
        if (job.Steps is not { } steps)
            yield break;
        yield return ("before", steps.Before);
        yield return ("until", steps.Until is { } until ? [until] : []);
        yield return ("on success", steps.AfterSuccess);
        yield return ("on failure", steps.AfterFailure);
        yield return ("always after", steps.AlwaysAfter);
    }
}
