using System.Collections.Immutable;
using NodaTime;

namespace IronKeep.Core.Watching.Logs;

/// <summary>What one rule made of a line: its list, its pattern as written, and the values that it read.</summary>
public sealed record TrialMark(LogList List, string Pattern, ImmutableArray<(string Name, string Text)> Values);

/// <summary>A run that rules find in a log, judged.</summary>
public sealed record TrialRun(LogRun Run, LogVerdict Verdict, int? Code);

/// <summary>
/// Tries rules on a log for somebody who writes them: its runs, and of each line that a rule matches what each made of it. Lines count from
/// 1.
/// </summary>
public sealed record LogTrial(IReadOnlyList<TrialRun> Runs, IReadOnlyDictionary<int, ImmutableArray<TrialMark>> Marks, long Lines)
{
    /// <param name="rules">The rules.</param>
    /// <param name="log">The text; an instant of it that names no year is of the year before <paramref name="now"/>.</param>
    /// <param name="zone">The zone of times without an offset, where the rules name none.</param>
    /// <param name="now">When it was read.</param>
    /// <param name="code">The exit code of the last run; null: not known.</param>
    public static LogTrial Of(LogRules rules, string log, DateTimeZone zone, Instant now, int? code)
    {
        var found = new List<LogRun>();
        var reader = new LogReader(rules, zone, now, found.Add);
        reader.Feed(log);
        reader.Finish();
        if (found.Count == 0 && code is not null)
            found.Add(new LogRun { FirstLine = 0 });
        var runs = found
            .Select((r, i) => (Run: r, Code: i == found.Count - 1 ? code : null))
            .Select(r => new TrialRun(r.Run, LogJudge.Of(rules, r.Run, r.Code), r.Code ?? r.Run.Code))
            .ToList();
        var marks = new Dictionary<int, ImmutableArray<TrialMark>>();
        var number = 0;
        foreach (var range in log.AsSpan().Split('\n'))
        {
            number++;
            var line = log[range].TrimEnd('\r');
            if (line.Length > LogPattern.MostOfLine)
                line = line[..LogPattern.MostOfLine];
            var of = MarksOf(rules, line);
            if (of.Length > 0)
                marks[number] = of;
        }
        return new LogTrial(runs, marks, reader.Lines);
    }

    /// <summary>Of a line that is ignored nothing else is looked at.</summary>
    private static ImmutableArray<TrialMark> MarksOf(LogRules rules, string line)
    {
        var matching = rules.Rules.Where(r => r.Pattern.IsMatch(line)).ToList();
        if (matching.Find(r => r.List == LogList.Ignores) is { } ignored)
            matching = [ignored];
        return [.. matching.Select(r => new TrialMark(r.List, r.Pattern.Source, [.. r.Pattern.ValuesOf(line)]))];
    }
}
