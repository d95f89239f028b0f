using System.Collections.Immutable;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;

namespace IronKeep.Core.Charters;

/// <summary>Reads one job: one that the service carries out, or a watched one, which something else does.</summary>
internal static class JobReader
{
    /// <summary>What only a job that the service carries out can say.</summary>
    private static readonly string[] CarriedOut =
    [
        "takes",
        "leaves-out",
        "leaves-out-caches",
        "other-file-systems",
        "into",
        "compression",
        .. PlainReader.OfPartials,
        "after",
        "retries",
        "locks",
        "needs",
        "spread",
    ];

    /// <summary>What needs copies: of a watched job, those that it leaves somewhere.</summary>
    private static readonly string[] OfCopies = ["policy", "prune", "fresh-within", "expect-change", "expect-growth"];

    /// <summary>Whether a value that a job has from a group means anything for it.</summary>
    internal static bool GoesWith(string key, bool watched, bool leavesCopies) =>
        watched
            ? !CarriedOut.Contains(key) && !StepReader.Around.Contains(key) && (leavesCopies || !OfCopies.Contains(key))
            : !OfWatched.Contains(key);

    public static JobDefinition? Read(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("job"));
        var watched = read.Yes(map.Scalar("watched"));
        if (watched)
            foreach (var key in CarriedOut)
                if (map.Any(key) is { } odd)
                    read.Wrong(
                        odd,
                        $"'{key}' does not go with a watched job, which something else carries out; take the line out, or 'watched'"
                    );

        var takes = map.Strings("takes");
        var streams = map.Any("streams") is not null;
        if (!watched && takes is null && !streams)
            map.Missing("takes", "say what to back up: 'takes: [/srv/data]', or 'streams' with the steps whose output is taken");
        else if (!watched && takes is { Count: 0 })
            read.Wrong(node, "the list under 'takes' is empty, so nothing would be backed up; name at least one folder");
        foreach (var path in takes ?? [])
            read.Path(path);
        var leavesOut = map.Strings("leaves-out") ?? [];
        foreach (var pattern in leavesOut)
            if (LeaveOutSyntax.Problem(pattern.Value) is { } wrong)
                read.Wrong(pattern, wrong);
        var leaves = map.Any("leaves-copy-in") is null ? null : map.Strings("leaves-copy-in");
        if (watched && leaves is null)
            foreach (var key in OfCopies)
                if (map.Any(key) is { } odd)
                    read.Wrong(
                        odd,
                        $"'{key}' needs copies, and a watched job has those that it leaves in a store of dated files: add 'leaves-copy-in: "
                            + $"STORE', or take the line out"
                    );
        if (leaves is null && map.Any("early") is { } early)
            read.Wrong(early, "'early' goes with 'leaves-copy-in': it says how long before a run is due its copy may be taken");
        var intoList = watched ? leaves : map.Strings("into");
        if (!watched && intoList is null or { Count: 0 })
            map.Missing("into", "say which store holds the copies: 'into: STORE'");
        var policy =
            watched && leaves is null ? map.Scalar("policy") : map.Required("policy", "say how long copies stay: 'policy: POLICY'");
        var heardBy = (map.Strings("heard-by") ?? [])
            .Select(s => read.Word<EvidenceSource>(s))
            .OfType<EvidenceSource>()
            .Distinct()
            .Order()
            .ToImmutableArray();
        var logs = map.Strings("log") ?? [];
        if (!watched)
            foreach (var key in OfWatched)
                if (map.Any(key) is { } odd)
                    read.Wrong(
                        odd,
                        $"'{key}' goes with a watched job, which something else carries out; take the line out, or add 'watched: yes'"
                    );
        foreach (var log in logs)
            CheckLog(log, read);
        if (heardBy.Contains(EvidenceSource.Log) && map.Any("log") is null)
            read.Wrong(map.Any("heard-by")!, "'heard-by: log' needs the log: add 'log: /var/log/FILE', with * where its name changes");
        if (map.Any("log") is { } named && !heardBy.Contains(EvidenceSource.Log))
            read.Wrong(named, "a log is named, but the job is not heard by it: add 'heard-by: log', or 'heard-by: [check-in, log]'");
        if (heardBy.Contains(EvidenceSource.Folder) && leaves is null)
            read.Wrong(
                map.Any("heard-by")!,
                "'heard-by: folder' needs the folder: add 'leaves-copy-in: STORE', a store with 'layout: dated-files'"
            );
        if (heardBy.Any(h => h is EvidenceSource.Log or EvidenceSource.Syslog) && map.Scalar("log-rules") is null)
            read.Wrong(
                map.Any("heard-by")!,
                $"'heard-by: {(heardBy.Contains(EvidenceSource.Log) ? "log" : "syslog")}' needs rules that say what its lines mean: add "
                    + $"'log-rules: NAME', and the rules under 'log-rules' in the charter"
            );
        var programs = map.Strings("syslog") ?? [];
        var texts = map.Strings("syslog-text") ?? [];
        if (heardBy.Contains(EvidenceSource.Syslog) != programs.Count > 0)
            read.Wrong(
                map.Any("syslog") ?? map.Any("heard-by")!,
                programs.Count > 0
                    ? "a program of syslog is named, but the job is not heard by it: add 'heard-by: syslog'"
                    : "'heard-by: syslog' needs the program's name: add 'syslog: NAME', or 'syslog: NAME@HOST'"
            );
        if (texts.Count > 0 && programs.Count == 0)
            read.Wrong(texts[0], "'syslog-text' goes with 'syslog: NAME'; name the program whose lines are meant");
        foreach (
            var program in programs.Where(p =>
                p.Value.Any(char.IsWhiteSpace) || p.Value.StartsWith('@') || p.Value.EndsWith('@') || p.Value.Count(c => c == '@') > 1
            )
        )
            read.Wrong(program, $"'{program.Value}' is no program of syslog; write its name, or NAME@HOST");
        foreach (var text in texts)
            if (LogPattern.Read(text.Value, LogTimes.Usual).Problem is { } wrongText)
                read.Wrong(text, wrongText);
        var whenNode = map.Scalar("when");
        var when = read.When(whenNode);
        var after = map.Scalar("after");
        if (after is not null && whenNode is not null)
            read.Wrong(after, "has both 'when' and 'after'; a job is due by the clock or follows another, not both");

        var job = new JobDefinition(
            name,
            [.. (takes ?? []).Select(t => CharterReader.Normal(t.Value)).Distinct()],
            read.Uses(intoList, "store"),
            read.Uses(policy, "policy") ?? ""
        )
        {
            Selection = SelectionReader.Read(map, read),
            Like = read.Uses(map.Scalar("like"), "job-group"),
            Watched = watched,
            HeardBy = heardBy.Length == 0 ? [EvidenceSource.CheckIn] : heardBy,
            Logs = [.. logs.Select(l => CharterReader.Normal(l.Value)).Distinct()],
            Syslog = [.. programs.Select(p => p.Value).Distinct()],
            SyslogText = [.. texts.Select(t => t.Value).Distinct()],
            LogRules = read.Uses(map.Scalar("log-rules"), "log-rules"),
            Early = read.Span(map.Scalar("early")) ?? JobDefinition.UsualEarly,
            Note = map.Scalar("note")?.Value,
            LeavesOut = [.. leavesOut.Select(p => p.Value)],
            LeavesOutCaches = read.Yes(map.Scalar("leaves-out-caches")),
            OtherFileSystems = read.Yes(map.Scalar("other-file-systems")),
            Compression = read.Number(map.Scalar("compression"), "a level of compression", 1, 19) ?? 1,
            Partials = PlainReader.Partials(map, read),
            When = when,
            After = read.Uses(after, "job"),
            Zone = read.Zone(map.Scalar("zone")),
            Calendar = read.Uses(map.Scalar("calendar"), "calendar"),
            WhenClosed = read.Word<WindowRule>(map.Scalar("when-closed")),
            QuietHours =
            [
                .. (map.Strings("quiet-hours") ?? [])
                    .Select(q => read.Sentence(q, Schedules.QuietHours.Read(q.Value)))
                    .OfType<QuietHours>(),
            ],
            WhenQuiet = read.Word<WindowRule>(map.Scalar("when-quiet")) ?? default,
            Spread = read.Span(map.Scalar("spread"), atLeastOne: true),
            Importance = read.Number(map.Scalar("importance"), "an importance", 1, 5),
            Locks = ReadLocks(map, read),
            Needs = [.. (map.Strings("needs") ?? []).Select(n => read.Sentence(n, MachineNeed.Read(n.Value))).OfType<MachineNeed>()],
            FreshWithin = read.Span(map.Scalar("fresh-within")),
            StartLimit = read.Span(map.Scalar("start-limit"), atLeastOne: true) ?? JobDefinition.UsualStartLimit,
            RunLimit = read.Span(map.Scalar("run-limit"), atLeastOne: true),
            CatchUp = read.Word<CatchUp>(map.Scalar("catch-up")) ?? default,
            WaitAfterReturn = read.Span(map.Scalar("wait-after-return")) ?? JobDefinition.UsualWaitAfterReturn,
            CatchUpGap = read.Span(map.Scalar("catch-up-gap")) ?? JobDefinition.UsualCatchUpGap,
            Overlap = read.Word<Overlap>(map.Scalar("overlap")) ?? default,
            Retries = read.Number(map.Scalar("retries"), "a number of retries", 0, JobDefinition.MostRetries) ?? 0,
            Band = ReadBand(map.Scalar("band"), read),
            Prune = read.Word<PruneTime>(map.Scalar("prune")) ?? default,
            Tags = PeopleReaders.Tags(map, read),
            Tells = read.Uses(map.Strings("tells"), CharterLanguage.Tellable),
            TellWhen = read.Word<TellWhen>(map.Scalar("tell-when")) ?? default,
            Severity = read.Word<Severity>(map.Scalar("severity")),
            ExpectSize = read.Size(map.Scalar("expect-size")),
            ExpectChange = read.Size(map.Scalar("expect-change")),
            ExpectGrowth = read.Size(map.Scalar("expect-growth")),
            ExpectTime = read.Span(map.Scalar("expect-time"), atLeastOne: true),
        };
        CheckTimes(job, map, whenNode, read);
        job = StepReader.Of(job, map, read);
        return
            (watched && leaves is not null && policy is null)
            || (!watched && ((takes is not { Count: > 0 } && job.Streams.IsEmpty) || job.Into.Length == 0 || policy is null))
            ? null
            : job;
    }

    /// <summary>What only a watched job can say.</summary>
    private static readonly string[] OfWatched = ["heard-by", "log", "syslog", "syslog-text", "log-rules", "leaves-copy-in"];

    /// <summary>Only the name of a log may change, not its folder: whoever can make folders must not choose what is read.</summary>
    private static void CheckLog(ScalarNode log, ValueReader read)
    {
        read.Path(log);
        var folder = log.Value[..Math.Max(0, log.Value.LastIndexOf('/'))];
        if (folder.AsSpan().ContainsAny('*', '?'))
            read.Wrong(log, $"'{log.Value}' has * or ? in its folder; they go into the name of the file alone");
        if (log.Value.EndsWith('/'))
            read.Wrong(log, $"'{log.Value}' is a folder; name the file in it, with * where its name changes");
    }

    private static void CheckTimes(JobDefinition job, MapReader map, ScalarNode? when, ValueReader read)
    {
        if (job.Watched && when is null)
            map.Missing("when", "a watched job needs its schedule, or nobody could tell that it did not run: 'when: daily at 23:00'");
        if (job.WhenClosed is not null && job.Calendar is null)
            read.Wrong(map.Scalar("when-closed")!, "'when-closed' needs a calendar of closed days: add 'calendar: CALENDAR'");
        if (map.Scalar("when-quiet") is { } rule && job.QuietHours.Length == 0)
            read.Wrong(rule, "'when-quiet' needs quiet hours: add 'quiet-hours: 08:00 to 18:00 on weekdays'");
        if (job.Spread is { } spread && spread.ToDuration().TotalHours > 24)
            read.Wrong(map.Scalar("spread")!, $"a spread of {spread} is longer than a day; 24 hours are the most");
        if (job.After is null)
            return;
        foreach (var key in (string[])["calendar", "when-closed", "quiet-hours", "when-quiet", "needs", "spread"])
            if (map.Any(key) is { } odd)
                read.Wrong(odd, $"'{key}' does not go with 'after': the job is due when the one before it is");
    }

    private static System.Collections.Immutable.ImmutableArray<string> ReadLocks(MapReader map, ValueReader read)
    {
        var locks = map.Strings("locks") ?? [];
        foreach (var name in locks.Where(l => !CharterReader.IsName(l.Value)))
            read.Wrong(name, $"'{name.Value}' cannot be the name of a lock; use lower-case letters, digits and hyphens");
        return [.. locks.Select(l => l.Value).Distinct().Order(StringComparer.Ordinal)];
    }

    private static Band ReadBand(ScalarNode? node, ValueReader read)
    {
        if (node is null)
            return Band.Usual;
        if (!Band.TryParse(node.Value, out var band, out var problem))
            read.Wrong(node, problem);
        return band;
    }
}
