using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;

namespace IronKeep.Core.Retention;

/// <summary>
/// Reads retention sentences such as "newest 3 then 7 daily then 4 weekly". Source: docs/semantics.md, section 3 (Retention).
/// </summary>
public static partial class RetentionSentence
{
    private const string Forms = "write 'newest 3', '7 daily', '4 weekly', 'all within 10 days' or 'forever', joined by 'and' or by 'then'";

    /// <summary>The policy, or the problem; exactly one of the two is null. A policy that keeps nothing is a problem.</summary>
    public static (RetentionPolicy? Policy, SentenceProblem? Problem) Read(string sentence)
    {
        var rungs = ImmutableArray.CreateBuilder<Rung>();
        RungConnective? connective = null;
        var start = 0;
        foreach (var joint in Joints().Matches(sentence).Append(null))
        {
            var end = joint?.Index ?? sentence.Length;
            var (rung, problem) = ReadRung(sentence[start..end], start);
            if (rung is null)
                return (null, problem);
            rungs.Add(rung);
            if (joint is null)
                break;
            var found = joint.Value.Trim().Equals("then", StringComparison.OrdinalIgnoreCase) ? RungConnective.Then : RungConnective.And;
            if (connective is { } earlier && earlier != found)
                return Refuse(
                    joint.Index + joint.Value.TakeWhile(char.IsWhiteSpace).Count(),
                    "rungs are joined by 'and' or by 'then', never both: with 'and' every rung looks at all copies, with 'then' each skips "
                        + "what earlier rungs keep"
                );
            connective = found;
            start = joint.Index + joint.Length;
        }
        if (rungs.All(r => r is NewestRung { Count: 0 } or PeriodRung { Count: 0 } or WithinRung { Span.Count: 0 }))
            return Refuse(0, "this policy keeps nothing; give at least one rung a count above 0");
        return (new RetentionPolicy(rungs.ToImmutable(), connective ?? RungConnective.And), null);
    }

    private static (Rung?, SentenceProblem?) ReadRung(string text, int offset)
    {
        var at = offset + text.TakeWhile(char.IsWhiteSpace).Count();
        var words = text.ToLowerInvariant().Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries);
        switch (words)
        {
            case []:
                return RefuseRung(at, $"a rung is missing here; {Forms}");
            case ["forever"]:
                return (new ForeverRung(), null);
            case ["newest", var n]:
                return Count(n) is { } newest
                    ? (new NewestRung(newest), null)
                    : RefuseRung(at, $"'{n}' is not a whole number from 0 to {Span.LargestCount}; write 'newest 3'");
            case ["all", "within", var n, var unit]:
                if (Count(n) is not { } count)
                    return RefuseRung(at, $"'{n}' is not a whole number from 0 to {Span.LargestCount}; write 'all within 10 days'");
                if (!Span.TryUnit(unit, out var spanUnit) || spanUnit == SpanUnit.Minutes)
                    return RefuseRung(at, $"'{unit}' cannot be used here; use hours, days, weeks, months or years");
                return (new WithinRung(new Span(count, spanUnit)), null);
            case [var n, var adjective] when Period(adjective) is { } period:
                return Count(n) is { } periods
                    ? (new PeriodRung(periods, period), null)
                    : RefuseRung(at, $"'{n}' is not a whole number from 0 to {Span.LargestCount}; write '7 {adjective}'");
            case [var adjective, var n] when Period(adjective) is not null:
                return RefuseRung(at, $"the count comes first: write '{n} {adjective}'");
            default:
                var near = words
                    .Select(w => Nearest.To(w, ["newest", "hourly", "daily", "weekly", "monthly", "yearly", "forever", "within"]))
                    .FirstOrDefault(w => w is not null && !words.Contains(w));
                return RefuseRung(at, $"'{text.Trim()}' is not a rung; {(near is null ? "" : $"did you mean '{near}'? ")}{Forms}");
        }
    }

    private static int? Count(string text) =>
        int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var n) && n <= Span.LargestCount ? n : null;

    private static RungPeriod? Period(string word) =>
        word switch
        {
            "hourly" => RungPeriod.Hour,
            "daily" => RungPeriod.Day,
            "weekly" => RungPeriod.Week,
            "monthly" => RungPeriod.Month,
            "yearly" => RungPeriod.Year,
            _ => null,
        };

    private static (RetentionPolicy?, SentenceProblem?) Refuse(int position, string message) =>
        (null, new SentenceProblem(position, message));

    private static (Rung?, SentenceProblem?) RefuseRung(int position, string message) => (null, new SentenceProblem(position, message));

    [GeneratedRegex(@"\s*,\s*|\s+and\s+|\s+then\s+", RegexOptions.IgnoreCase)]
    private static partial Regex Joints();
}
