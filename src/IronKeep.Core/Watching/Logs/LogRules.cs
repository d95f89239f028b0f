using System.Collections.Immutable;
using IronKeep.Core.Quantities;
using NodaTime;

namespace IronKeep.Core.Watching.Logs;

/// <summary>The lists of a set of rules, in the order of their weight.</summary>
public enum LogList
{
    Ok,
    Warned,
    Failed,
    Figures,
    Ignores,
    Begins,
    Ends,
}

/// <summary>A pattern in its list, and the class of failure that a match of it means; null: that a line said so.</summary>
public sealed record LogRule(LogList List, LogPattern Pattern, FailureClass? Class = null);

/// <summary>Exit codes and what they mean; every code that is not named failed.</summary>
public sealed record ExitCodes(ImmutableArray<(int From, int To)> Ok, ImmutableArray<(int From, int To)> Warned)
{
    /// <summary>0 is ok, all else failed.</summary>
    public static ExitCodes Usual { get; } = new([(0, 0)], []);

    public Outcome Of(int code) =>
        In(Ok, code) ? Outcome.Ok
        : In(Warned, code) ? Outcome.Warned
        : Outcome.Failed;

    private static bool In(ImmutableArray<(int From, int To)> ranges, int code) => ranges.Any(r => code >= r.From && code <= r.To);
}

/// <summary>A log that was kept with what it shall come to, so that a change of the rules that breaks it is a mistake.</summary>
public sealed record LogExample(string Name, string Log, Outcome Outcome, int? ExitCode);

/// <summary>
/// A set of rules for the logs of jobs that something else carries out: what begins and ends a run, what its lines mean, what figures are
/// read.
/// <see cref="Zone"/> null: the job's. Source: docs/semantics.md, section 9 (Rules for logs).
/// </summary>
public sealed record LogRules(string Name, ImmutableArray<LogRule> Rules)
{
    public LogTimes Times { get; init; } = LogTimes.Usual;

    /// <summary>The form of times as it is written; null: the usual ones.</summary>
    public string? TimesText { get; init; }
    public DateTimeZone? Zone { get; init; }
    public ExitCodes ExitCodes { get; init; } = ExitCodes.Usual;

    /// <summary>Without a rule of ends, a run is over when nothing was written for so long.</summary>
    public Span QuietAfter { get; init; } = UsualQuiet;
    public ImmutableArray<LogExample> Examples { get; init; } = [];

    public static readonly Span UsualQuiet = new(10, SpanUnit.Minutes);

    /// <summary>Rules that know nothing of any line: the exit code alone tells.</summary>
    public static LogRules None { get; } = new("none", []);

    public bool HasBegins => Rules.Any(r => r.List == LogList.Begins);
    public bool HasEnds => Rules.Any(r => r.List == LogList.Ends);

    public bool Equals(LogRules? other) =>
        other is not null && Name == other.Name && Charters.CharterFields.Of(this).SequenceEqual(Charters.CharterFields.Of(other));

    public override int GetHashCode() => Name.GetHashCode(StringComparison.Ordinal);
}
