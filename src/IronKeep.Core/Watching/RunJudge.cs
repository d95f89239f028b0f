using System.Collections.Immutable;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching.Logs;
using NodaTime;

namespace IronKeep.Core.Watching;

/// <summary>What was heard of one run, from all sources together: facts, whatever they mean.</summary>
public sealed record HeardFacts
{
    public int? Code { get; init; }
    public LogRun? Log { get; init; }

    /// <summary>Figures that the run said of itself; they stand over those that were read from its log.</summary>
    public long? Items { get; init; }
    public long? Bytes { get; init; }
    public double? Seconds { get; init; }
    public long? Skipped { get; init; }
    public long? Errors { get; init; }

    /// <summary>Whether a copy is where the job says that it leaves one; null: it says nothing of the kind.</summary>
    public bool? LeftCopy { get; init; }
}

/// <summary>
/// Turns what was heard of a run that something else carried out into its outcome. Pure: no clock, no file.
/// Source: docs/semantics.md, sections 6 (Watching) and 9 (Rules for logs).
/// </summary>
public static class RunJudge
{
    /// <summary>A run that said it started, and states no run limit, counts as lost after this long.</summary>
    public static readonly Duration UsualLimit = Duration.FromHours(24);

    /// <param name="rules">The job's rules, without what begins and ends a run where the end was said otherwise.</param>
    /// <param name="facts">What was heard.</param>
    public static LogVerdict Of(LogRules rules, HeardFacts facts)
    {
        var verdict = facts is { LeftCopy: { } left, Log: null, Code: null } ? OfCopy(left) : LogJudge.Of(rules, facts.Log, facts.Code);
        var seconds = facts.Seconds ?? verdict.Seconds;
        if (verdict.Outcome != Outcome.Failed)
        {
            if (facts.Errors > 0)
                verdict = verdict with
                {
                    Outcome = Outcome.Failed,
                    Class = FailureClass.Reported,
                    Sentence = $"it says {Counted.Of(facts.Errors.Value, "error")}",
                };
            else if (facts.LeftCopy == false)
                verdict = verdict with
                {
                    Outcome = Outcome.Failed,
                    Class = FailureClass.Unconfirmed,
                    Sentence = $"it says that it ended well, and left no copy where it should: {verdict.Sentence}",
                };
            else if (verdict.Outcome != Outcome.Suspect && (facts.Items == 0 || facts.Bytes == 0))
                verdict = verdict with { Outcome = Outcome.Suspect, Sentence = $"it says {(facts.Items == 0 ? "0 items" : "0 bytes")}" };
            else if (verdict.Outcome == Outcome.Ok && facts.Skipped > 0)
                verdict = verdict with { Outcome = Outcome.Warned, Sentence = $"it skipped {Counted.Of(facts.Skipped.Value, "item")}" };
        }
        return verdict with { Seconds = seconds };
    }

    /// <summary>Where nothing but its copy tells of a run.</summary>
    private static LogVerdict OfCopy(bool left) =>
        left
            ? new LogVerdict(Outcome.Ok, null, "its copy is there", [])
            : new LogVerdict(Outcome.Failed, FailureClass.Unconfirmed, "it left no copy where it should", []);

    /// <summary>
    /// What becomes of a planned run of which nothing more was heard: null while there is time. Missed when it never said that it began,
    /// timed-out when it did and then no more.
    /// </summary>
    public static Outcome? OfSilence(Instant due, bool started, Duration startLimit, Duration? runLimit, Instant now) =>
        !started && now > due + startLimit ? Outcome.Missed
        : started && now > due + (runLimit ?? UsualLimit) ? Outcome.TimedOut
        : null;

    /// <summary>Rules for a log whose begin and end are known otherwise.</summary>
    public static LogRules WithoutBounds(LogRules rules) =>
        rules with
        {
            Rules = [.. rules.Rules.Where(r => r.List is not (LogList.Begins or LogList.Ends))],
            Examples = [],
        };

    /// <summary>What rules make of the end of a log, all of it one run.</summary>
    public static LogRun? Read(LogRules rules, string log, DateTimeZone zone, Instant now)
    {
        LogRun? read = null;
        var reader = new LogReader(WithoutBounds(rules), zone, now, run => read = run);
        reader.Feed(log);
        reader.Finish();
        return read;
    }
}
