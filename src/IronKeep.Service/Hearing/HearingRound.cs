using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using IronKeep.Service.Facts;
using IronKeep.Service.Timetable;
using Microsoft.EntityFrameworkCore;
using NodaTime;

namespace IronKeep.Service.Hearing;

/// <summary>A report with the run and planned run that it was taken for, and the lines that go into the run's log.</summary>
internal sealed record HeardRun(Report Report, Run? Run, PlannedRun? Planned, IReadOnlyList<(LogSeverity Severity, string Text)> Lines);

/// <summary>
/// Reports that are taken in one change: which planned run each is about, the run that it begins or ends, and the outcome. All that is
/// needed is read at once and saved at once. Source: docs/semantics.md, sections 2 (Planned runs, lateness, catch-up) and 6 (Watching).
/// </summary>
internal sealed class HearingRound
{
    /// <summary>
    /// A run that began so little before its due instant is that of the instant: the clock of its machine is a little ahead.
    /// </summary>
    internal static readonly Duration Early = Duration.FromMinutes(10);

    /// <summary>The same end, said once more so soon after, is a repeat.</summary>
    private static readonly Duration Repeats = Duration.FromMinutes(10);

    /// <summary>A duration that is told and longer than this (seconds, ten years) is none.</summary>
    private const double LongestRun = 315_360_000;

    private readonly KeepContext db;
    private readonly Charter charter;
    private readonly Instant now;
    private readonly Dictionary<string, long> known;
    private readonly ILookup<(string, string), PlannedRun> planned;
    private readonly Dictionary<(string, string), List<Run>> runs;
    private readonly Dictionary<(string, string), long> bases;
    private readonly List<(PlannedRun Planned, Run Run)> links = [];
    private readonly List<Run> ended = [];
    private readonly List<(string Id, Run Run)> taken = [];
    private readonly List<PlannedRun> said = [];
    private readonly HashSet<PlannedRun> saidAlready = [];
    private readonly HashSet<Run> endedAlready = [];

    private HearingRound(KeepContext db, Charter charter, Instant now, HearingPast past) =>
        (this.db, this.charter, this.now, known, planned, runs, bases) = (
            db,
            charter,
            now,
            past.Known,
            past.Planned,
            past.Runs,
            past.Bases
        );

    public static async Task<HearingRound> BeginAsync(KeepContext db, Charter charter, IReadOnlyList<Report> reports, Instant now) =>
        new(db, charter, now, await HearingPast.ReadAsync(db, charter, reports, now));

    public HeardRun Take(Report report)
    {
        if (report.Id is { } id && known.TryGetValue(id, out var before))
            return new HeardRun(report, All(report).Find(r => r.Id == before), null, []);
        if (charter.Placed.Find(report.Job, report.Machine) is not { } job)
            return new HeardRun(report, null, null, []);
        if (Joined(report) is { } other)
            return Join(job, other, report);
        if (report.Source != EvidenceSource.Folder && Repeated(report) is { } same)
            return new HeardRun(report, same, null, []);
        // A copy that is there does not end what has not said that it ended.
        var under = report.Source == EvidenceSource.Folder ? null : UnderWay(report);
        // Another begins, so the one before it ended without a word.
        if (report.State == CheckInState.Started && under is not null)
            Abandon(under);
        var run = report.State == CheckInState.Ended ? under : null;
        var at = run is not null ? planned[(job.Name, report.Machine)].FirstOrDefault(p => Linked(p) == run) : PlannedOf(job, report);
        run ??= at is null ? null : Linked(at);
        if (run is null)
        {
            run = new Run
            {
                Kind = RunKind.Watched,
                State = RunState.Running,
                Job = job.Name,
                Machine = report.Machine,
                By = Actor.Elsewhere,
                Queued = Instant.Min(now, report.Began ?? report.When),
                Began = report.Began ?? report.When,
                Due = at?.Due ?? Coming(job, report),
            };
            db.Runs.Add(run);
            All(report).Add(run);
        }
        if (at is not null)
        {
            links.Add((at, run));
            (run.Due, at.Stand) = (at.Due, PlannedStand.Started);
        }
        if (report.Began is { } began)
            run.Began = began;
        var heard = Hear(run, report);
        var lines = report.State == CheckInState.Ended ? End(job, run, at, report, heard) : Start(job, run, at, report, heard);
        Remember(report, run);
        return new HeardRun(report, run, at, lines);
    }

    private void Remember(Report report, Run run)
    {
        if (report.Id is not { } id)
            return;
        taken.Add((id, run));
        known[id] = run.Id;
    }

    private List<Run> All(Report report) =>
        runs.TryGetValue((report.Job, report.Machine), out var all) ? all : runs[(report.Job, report.Machine)] = [];

    /// <summary>
    /// The planned run that a report is about, unless it has ended for good: the last that was due when the run began, or the one that was
    /// due a little later, whichever is nearer; the other one where the nearer is done with.
    /// </summary>
    private PlannedRun? PlannedOf(PlacedJob job, Report report)
    {
        var all = planned[(report.Job, report.Machine)];
        if (report.Due is { } due)
            return all.FirstOrDefault(p => p.Due == due && IsOpen(p));
        var began = report.Began ?? report.When;
        var (before, ahead) = (all.LastOrDefault(p => p.Due <= began), all.FirstOrDefault(p => p.Due > began && p.Due <= began + Early));
        var begins = ahead is not null && IsOpen(ahead) && Linked(ahead) is null;
        if (ahead is not null && (before is null || ahead.Due - began < began - before.Due))
            return begins ? ahead : null;
        if (before is null || !IsOpen(before))
            return begins ? ahead : null;
        // One that was missed is not begun just when the next is due.
        return before.Outcome == Outcome.Missed && Coming(job, report) is not null ? null : before;

        static bool IsOpen(PlannedRun p) => p.Outcome is null or Outcome.Missed or Outcome.TimedOut;
    }

    private Run? Linked(PlannedRun at) =>
        links.LastOrDefault(l => l.Planned == at).Run
        ?? (at.RunId is { } id ? runs.GetValueOrDefault((at.Job, at.Machine))?.Find(r => r.Id == id) : null);

    /// <summary>The run that is under way, as far as the report can mean it.</summary>
    private Run? UnderWay(Report report) =>
        All(report)
            .LastOrDefault(r =>
                r.State == RunState.Running
                && (
                    report.Began is not { } began
                    || report.State == CheckInState.Started
                    || (r.Began is { } at && Duration.Max(at - began, began - at) <= report.Slack)
                )
            );

    /// <summary>The run of which a report says once more what is known; null: it says something new.</summary>
    private Run? Repeated(Report report)
    {
        if (report.State == CheckInState.Started)
            return UnderWay(report) is { } under && report.When - under.Began <= Repeats && report.When >= under.Began ? under : null;
        return
            UnderWay(report) is null
            && All(report).LastOrDefault() is { State: RunState.Ended, Ended: { } ended } last
            && report.When - ended <= Repeats
            && report.When >= ended
            && last.ExitCode == (report.ExitCode ?? 0)
            && last.Outcome is not Outcome.TimedOut
            && (report.Began is null || report.Began == last.Began)
            ? last
            : null;
    }

    /// <summary>The due instant that is near and has no row yet, for a job whose clock is a little ahead.</summary>
    private Instant? Coming(PlacedJob job, Report report)
    {
        var began = report.Began ?? report.When;
        return charter.DueTimesOf(job) is { } due && due.Next(began) is { } next && next - began <= Early && next > now ? next : null;
    }

    /// <summary>The run that has ended by what another source said, and of which this one says something as well.</summary>
    private Run? Joined(Report report)
    {
        if (report is { Source: EvidenceSource.Folder, Due: { } due })
            return All(report)
                .LastOrDefault(r =>
                    r.State == RunState.Ended
                    && r.Due == due
                    && (
                        r.Failure == FailureClass.Unconfirmed
                        || report.LeftCopy == false
                        || EvidenceOf(r).Heard.All(h => h.Source != report.Source)
                    )
                );
        var began = report.Began ?? report.When;
        var (from, to) = (began - Repeats, report.When + Repeats);
        // Of runs that follow each other closely the one that began nearest.
        return All(report)
            .Where(r =>
                r.State == RunState.Ended
                && r.Began <= to
                && r.Ended >= from
                && EvidenceOf(r).Heard is { Count: > 0 } heard
                && heard.All(h => h.Source != report.Source)
            )
            .OrderBy(r => Math.Abs((r.Began!.Value - began).TotalSeconds))
            .ThenByDescending(r => r.Id)
            .FirstOrDefault();
    }

    private static EvidenceAnswer EvidenceOf(Run run) =>
        run.Evidence is null ? new([], []) : JsonSerializer.Deserialize<EvidenceAnswer>(run.Evidence, ContractJson.Options)!;

    private static void Keep(Run run, IReadOnlyList<HeardAnswer> heard, IEnumerable<EvidenceLine> lines) =>
        run.Evidence = JsonSerializer.Serialize(new EvidenceAnswer(heard, [.. lines]), ContractJson.Options);

    /// <summary>
    /// The outcome of a run that several sources have heard of is the worst of what they say; what one knows better, another does not take
    /// away.
    /// </summary>
    private HeardRun Join(PlacedJob job, Run run, Report report)
    {
        var before = (
            run.Outcome,
            run.Failure,
            run.Sentence,
            run.Items,
            run.SelectedBytes,
            run.Skipped,
            run.ExitCode,
            run.Began,
            run.Ended,
            run.TookSeconds,
            run.Brief
        );
        var at = planned[(job.Name, report.Machine)].FirstOrDefault(p => Linked(p) == run);
        var lines = new List<(LogSeverity, string)>();
        var decided = EvidenceOf(run).Lines;
        if (report.State == CheckInState.Ended)
            lines = End(job, run, at, report, Hear(run, report));
        else
            Keep(run, Hear(run, report), []);
        Keep(run, EvidenceOf(run).Heard, decided.Concat(EvidenceOf(run).Lines));
        if (before.Failure == FailureClass.Unconfirmed && report.LeftCopy == true)
        {
            (run.Outcome, run.Failure, run.Sentence) = (Outcome.Warned, null, $"its copy came late: {run.Sentence}");
            if (at is not null)
                (at.Outcome, at.Reason) = (run.Outcome, run.Sentence);
        }
        else if (
            report.State == CheckInState.Ended
            && Weight(before.Outcome) >= Weight(run.Outcome)
            && before.Outcome is not (Outcome.TimedOut or Outcome.Missed)
        )
        {
            (run.Outcome, run.Failure, run.Sentence, run.Brief) = (before.Outcome, before.Failure, before.Sentence, before.Brief);
            if (at is not null)
                (at.Outcome, at.Reason) = (run.Outcome, run.Sentence);
        }
        if (run.Items == 0 && run.SelectedBytes == 0)
            (run.Items, run.SelectedBytes, run.Skipped) = (before.Items, before.SelectedBytes, before.Skipped);
        run.ExitCode ??= before.ExitCode;
        run.Began = before.Began < run.Began ? before.Began : run.Began;
        run.TookSeconds ??= before.TookSeconds;
        Remember(report, run);
        return new HeardRun(report, run, at, lines);
    }

    private static int Weight(Outcome? outcome) =>
        outcome switch
        {
            Outcome.Failed or Outcome.TimedOut => 4,
            Outcome.Suspect => 3,
            Outcome.Warned => 2,
            Outcome.Ok => 1,
            _ => 0,
        };

    private void Abandon(Run run)
    {
        (run.State, run.Outcome, run.Failure, run.Ended, run.Sentence) = (
            RunState.Ended,
            Outcome.Failed,
            FailureClass.NoEnd,
            now,
            "it began, and never said that it ended before the next one began"
        );
        ended.Add(run);
        if (planned[(run.Job!, run.Machine)].FirstOrDefault(p => Linked(p) == run) is not { } at)
            return;
        (at.Outcome, at.Reason) = (run.Outcome, run.Sentence);
        said.Add(at);
    }

    private static List<HeardAnswer> Hear(Run run, Report report)
    {
        var heard = EvidenceOf(run).Heard.ToList();
        heard.Add(
            new HeardAnswer(
                report.Source,
                report.At?.ToDateTimeOffset(),
                report.Received.ToDateTimeOffset(),
                report.State == CheckInState.Started ? "started"
                    : report.LeftCopy is { } left
                        ? $"{(left ? "a copy is there" : "no copy")}{(report.Note is { } said ? $": {said}" : "")}"
                    : $"ended{(report.ExitCode is { } code ? $" with exit code {code}" : "")}{(report.Note is { } note ? $": {note}" : "")}"
            )
        );
        return heard;
    }

    private static List<(LogSeverity, string)> Start(PlacedJob job, Run run, PlannedRun? at, Report report, List<HeardAnswer> heard)
    {
        (run.State, run.Outcome, run.Failure, run.Sentence, run.Ended) = (RunState.Running, null, null, null, null);
        run.Began = report.When;
        Keep(run, heard, []);
        if (at is not null)
            (at.Outcome, at.Reason) = (null, null);
        return [(LogSeverity.Info, $"{job.Name} says that it started{(report.Note is { } note ? $": {note}" : "")}")];
    }

    private List<(LogSeverity Severity, string Text)> End(PlacedJob job, Run run, PlannedRun? at, Report report, List<HeardAnswer> heard)
    {
        var rules = job.LogRules is { } name && charter.LogRules.TryGetValue(name, out var set) ? set : LogRules.None;
        // Where the end was said otherwise, no line need say it.
        if (report.Read is not { HasEnd: false })
            rules = RunJudge.WithoutBounds(rules);
        var log =
            report.Read is { } read
                ? LogRun.Told(
                    read.Deciding is { } d ? Mark(d) : null,
                    read.Warned.Select(Mark),
                    read.WarnedCount,
                    read.ExitCode,
                    read.HasEnd
                )
            : report.Log is { } text ? RunJudge.Read(rules, text, charter.ZoneOf(job), now)
            : null;
        var figures = report.Figures ?? report.Read?.Figures;
        var facts = new HeardFacts
        {
            Code = report.ExitCode ?? (report.Read is null && report.Log is null && report.LeftCopy is null ? 0 : null),
            LeftCopy = report.LeftCopy,
            Log = log,
            Items = figures?.Items ?? log?.Items,
            Bytes = figures?.Bytes ?? log?.Bytes,
            Seconds = figures?.Seconds ?? log?.Seconds,
            Skipped = figures?.Skipped ?? log?.Skipped,
            Errors = figures?.Errors,
        };
        var verdict = RunJudge.Of(rules, facts);
        var late = at?.Outcome is Outcome.Missed or Outcome.TimedOut;
        (run.State, run.Ended) = (RunState.Ended, report.When);
        run.TookSeconds = (verdict.Seconds is >= 0 and <= LongestRun ? verdict.Seconds : null)
            ?? (run.Began is { } began && report.When > began ? (report.When - began).TotalSeconds : null);
        (run.Items, run.SelectedBytes, run.Skipped, run.ExitCode) = (
            Math.Max(0, facts.Items ?? 0),
            Math.Max(0, facts.Bytes ?? 0),
            Math.Max(0, facts.Skipped ?? 0),
            report.ExitCode ?? log?.Code ?? facts.Code
        );
        Keep(run, heard, verdict.Evidence.Select(e => new EvidenceLine(e.Line, e.List, e.Text, e.Class)));
        var sentence = $"{verdict.Sentence}{(report.Note is { Length: > 0 } note ? $"; {note}" : "")}{(late ? "; heard of late" : "")}";
        (run.Outcome, run.Failure, run.Sentence) = (verdict.Outcome, verdict.Class, sentence);
        if (report.LeftCopy is not null)
        {
            if (report.Doubt is { } doubted && verdict.Outcome == Outcome.Ok)
                (run.Outcome, run.Brief, run.Sentence) = (Outcome.Suspect, doubted, $"{doubted}. {run.Sentence}");
        }
        else if (
            verdict.Outcome is Outcome.Ok or Outcome.Warned
            && (facts.Items is not null || facts.Bytes is not null || verdict.Seconds is not null)
        )
            Doubt(job, run, facts);
        if (at is not null)
        {
            (at.Outcome, at.Reason) = (run.Outcome, run.Sentence);
            said.Add(at);
        }
        ended.Add(run);
        // The line that says it all is not written twice; it weighs what it came to.
        var severity =
            run.Outcome is Outcome.Ok ? LogSeverity.Info
            : run.Outcome is Outcome.Failed ? LogSeverity.Error
            : LogSeverity.Warning;
        var lines = LinesOf(report).Select(l => l.Text == run.Sentence ? (severity, l.Text) : l).ToList();
        return lines.Exists(l => l.Text == run.Sentence) ? lines : [.. lines, (severity, run.Sentence!)];
    }

    private static LogMark Mark(EvidenceLine line) => new(line.Line, line.List, line.Text, line.Class);

    /// <summary>Far off from what is usual, a good run is suspect.</summary>
    private void Doubt(PlacedJob job, Run run, HeardFacts facts)
    {
        var since = bases.GetValueOrDefault((run.Job!, run.Machine));
        var good = runs[(run.Job!, run.Machine)]
            .Where(r =>
                r != run
                && r.Id >= since
                && (r.Outcome is Outcome.Ok or Outcome.Warned || (r.Outcome == Outcome.Suspect && r.ConfirmedAt is not null))
            )
            .TakeLast(Bands.Looks)
            .Select(r => new RunMeasure(r.Items, r.SelectedBytes, r.Took))
            .Reverse()
            .ToList();
        // What is not told is as it always was.
        var last = good.FirstOrDefault();
        var measure = new RunMeasure(facts.Items ?? last?.Items ?? 0, facts.Bytes ?? last?.Bytes ?? 0, run.Took);
        if (facts.Bytes is null && measure.Bytes == 0)
            return;
        var reasons = Bands.Judge(job.Band, good, measure).ToArray();
        if (reasons.Length == 0)
            return;
        var doubt = string.Join("; ", reasons);
        (run.Outcome, run.Brief, run.Sentence) = (Outcome.Suspect, doubt, $"{doubt}. {run.Sentence}");
    }

    private static IEnumerable<(LogSeverity Severity, string Text)> LinesOf(Report report)
    {
        if (report.LogCut)
            yield return (LogSeverity.Info, "the begin of the log was cut; this is its end");
        foreach (var line in (report.Log ?? "").Split('\n'))
            if (line.TrimEnd('\r') is { Length: > 0 } text)
                yield return (LogSeverity.Info, text);
    }

    /// <summary>
    /// Saves all of it: what names only runs that have a number at once, and what names new ones when they have got theirs.
    /// </summary>
    public async Task SaveAsync()
    {
        Say(r => r.Id != 0);
        await db.SaveChangesAsync();
        Say(_ => true);
        if (db.ChangeTracker.HasChanges())
            await db.SaveChangesAsync();
    }

    private void Say(Func<Run, bool> hasNumber)
    {
        foreach (var (at, run) in links.Where(l => hasNumber(l.Run)))
        {
            at.RunId = run.Id;
            run.PlannedRunId = at.Id;
            at.MadeUpBy = null;
        }
        foreach (var (id, run) in taken.Where(t => hasNumber(t.Run)))
            db.TakenReports.Add(
                new TakenReport
                {
                    Id = id,
                    At = now,
                    RunId = run.Id,
                }
            );
        taken.RemoveAll(t => hasNumber(t.Run));
        // Of a planned run is said what it has come to, when the runs that it was given have their numbers.
        var waiting = links.Where(l => !hasNumber(l.Run)).Select(l => l.Planned).ToHashSet();
        foreach (var at in said.Concat(links.Select(l => l.Planned)).Where(p => !waiting.Contains(p) && saidAlready.Add(p)))
            db.SayPlanned(at, now);
        foreach (var run in ended.Where(r => hasNumber(r) && endedAlready.Add(r)))
            db.SayEnded(run, now);
    }
}
