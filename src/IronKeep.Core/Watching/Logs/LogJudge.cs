using System.Collections.Immutable;
using IronKeep.Core.Quantities;

namespace IronKeep.Core.Watching.Logs;

/// <summary>
/// What a run comes to by its log and its exit code; the class only where it failed, the lines in the order in which they stand.
/// </summary>
public sealed record LogVerdict(Outcome Outcome, FailureClass? Class, string Sentence, ImmutableArray<LogMark> Evidence)
{
    /// <summary>How long it lasted, in seconds: as a line says, else from its begin to its end; null when neither is known.</summary>
    public double? Seconds { get; init; }
}

/// <summary>
/// Turns what a log says of a run, and the exit code, into an outcome. Source: docs/semantics.md, section 9 (Rules for logs).
/// </summary>
public static class LogJudge
{
    /// <param name="rules">What lines and codes mean.</param>
    /// <param name="run">What the log says; null when there is none.</param>
    /// <param name="code">The exit code that was reported, which stands over one that a line told.</param>
    public static LogVerdict Of(LogRules rules, LogRun? run, int? code)
    {
        var evidence = ImmutableArray.CreateBuilder<LogMark>();
        if (run?.Deciding is { } deciding)
            evidence.Add(deciding);
        evidence.AddRange(run?.Warned ?? []);
        var seconds = run?.Seconds
            ?? (run is { Began: { } began, Ended: { } ended } && ended >= began ? (ended - began).TotalSeconds : null);
        var (outcome, failure, words) = Judge();
        return new LogVerdict(
            outcome,
            outcome == Outcome.Failed ? failure : null,
            words,
            [.. evidence.DistinctBy(e => (e.Line, e.List)).OrderBy(e => e.Line)]
        )
        {
            Seconds = seconds,
        };

        (Outcome, FailureClass?, string) Judge()
        {
            if (run is { HasEnd: false } && rules.HasEnds)
                return (
                    Outcome.Failed,
                    FailureClass.NoEnd,
                    $"its log has no line that ends it{(run.Deciding is { } last ? $"; the last that counted was: {last.Text}" : "")}"
                );
            var exit = code ?? run?.Code;
            var byText = run?.Deciding switch
            {
                null => run?.WarnedCount > 0 ? Outcome.Warned : (Outcome?)null,
                { List: LogList.Ok } => run.WarnedCount > 0 ? Outcome.Warned : Outcome.Ok,
                _ => Outcome.Failed,
            };
            var byCode = exit is { } c ? rules.ExitCodes.Of(c) : (Outcome?)null;
            if (byText is null && byCode is null)
                return (Outcome.Failed, FailureClass.Unknown, "neither its log nor an exit code says how it ended");
            if (byText == Outcome.Failed)
                return (Outcome.Failed, run!.Deciding!.Class ?? FailureClass.Reported, run.Deciding.Text);
            if (code is null && run?.CodeLine is { } line && byCode is not Outcome.Ok)
                evidence.Add(line);
            if (byCode == Outcome.Failed)
                return (Outcome.Failed, FailureClass.ExitCode, $"it ended with exit code {exit}");
            if (run is { Items: 0 } or { Bytes: 0 })
            {
                if (run.EmptyLine is { } empty)
                    evidence.Add(empty);
                return (Outcome.Suspect, null, $"its log says {(run.Items == 0 ? "0 items" : "0 bytes")}");
            }
            if (byText == Outcome.Warned)
                return (Outcome.Warned, null, $"{Counted.Of(run!.WarnedCount, "line")} warned, the first: {run.Warned[0].Text}");
            if (byCode == Outcome.Warned)
                return (Outcome.Warned, null, $"it ended with exit code {exit}");
            return (Outcome.Ok, null, run?.Deciding?.Text ?? $"it ended with exit code {exit}");
        }
    }
}
