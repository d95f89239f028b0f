using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;

namespace IronKeep.Core.Charters;

/// <summary>
/// Reads a set of rules for logs, from the charter or alone in a file. What takes keys there (a class beside a pattern, exit codes, an
/// example) has a form in one text as well, in which single objects travel. Source: docs/semantics.md, section 9 (Rules for logs).
/// </summary>
public static class LogRulesReader
{
    private const int MostRules = 200,
        MostExamples = 50;

    /// <summary>What stands between a pattern and its class in one text.</summary>
    public const string Means = " => ";
    private static readonly Dictionary<string, LogList> Lists = new()
    {
        ["begins"] = LogList.Begins,
        ["ends"] = LogList.Ends,
        ["ok"] = LogList.Ok,
        ["warned"] = LogList.Warned,
        ["failed"] = LogList.Failed,
        ["ignores"] = LogList.Ignores,
        ["figures"] = LogList.Figures,
    };

    /// <summary>Rules that stand alone in a file; null with at least one mistake, in the order of the text.</summary>
    public static (LogRules? Rules, ImmutableArray<Mistake> Mistakes) Read(CharterNode root, string name)
    {
        var mistakes = new List<Mistake>();
        var rules = Read(name, root, new ValueReader("the rules", mistakes, []));
        return (mistakes.Count == 0 ? rules : null, [.. mistakes.OrderBy(m => m.Line).ThenBy(m => m.Column)]);
    }

    internal static LogRules? Read(string name, CharterNode node, ValueReader read)
    {
        var map = read.Map(node, CharterLanguage.Names("log-rules"));
        var times = LogTimes.Usual;
        if (map.Scalar("times") is { } form)
        {
            var (own, problem) = LogTimes.Read(form.Value);
            if (own is null)
                read.Wrong(form, problem!);
            else
                times = own;
        }
        var rules = new List<LogRule>();
        foreach (var (key, list) in Lists)
            rules.AddRange(Patterns(map.Any(key), key, list, times, read));
        if (rules.Count > MostRules)
            read.Wrong(node, $"there are {rules.Count} patterns; {MostRules} are the most");
        Contradictions(rules, node, read);
        var made = new LogRules(name, [.. rules])
        {
            Times = times,
            TimesText = map.Scalar("times")?.Value,
            Zone = read.Zone(map.Scalar("zone")),
            ExitCodes = Codes(map.Any("exit-codes"), read) ?? ExitCodes.Usual,
            QuietAfter = read.Span(map.Scalar("quiet-after"), atLeastOne: true) ?? LogRules.UsualQuiet,
        };
        if (map.Scalar("quiet-after") is { } quiet && made.HasEnds)
            read.Wrong(quiet, "'quiet-after' does not go with 'ends': a line ends the run; take one of the two out");
        return made with { Examples = Examples(map.Any("examples"), made, read) };
    }

    private static IEnumerable<LogRule> Patterns(CharterNode? node, string key, LogList list, LogTimes times, ValueReader read)
    {
        foreach (
            var item in node switch
            {
                null => [],
                ListNode many => many.Items.AsEnumerable(),
                _ => [node],
            }
        )
        {
            var (text, given) = PatternAndClass(item, key, list, read);
            if (text is null)
                continue;
            var (pattern, problem) = LogPattern.Read(text.Value, times);
            if (pattern is null)
                read.Wrong(text, problem!);
            else if (list == LogList.Figures && !pattern.Names.Any(LogValues.IsKnown))
                read.Wrong(
                    text,
                    $"'{text.Value}' reads no figure; write {{items}}, {{skipped}}, {{errors}}, {{bytes}}, {{size}}, {{duration}} or "
                        + $"{{code}} where it stands"
                );
            else
                yield return new LogRule(list, pattern, given);
        }
    }

    private static (ScalarNode? Text, FailureClass? Class) PatternAndClass(CharterNode item, string key, LogList list, ValueReader read)
    {
        if (item is ScalarNode { Value.Length: > 0 } text)
        {
            var at = list == LogList.Failed ? text.Value.LastIndexOf(Means, StringComparison.Ordinal) : -1;
            return at > 0 && Kebab.Read<FailureClass>(text.Value[(at + Means.Length)..]) is { } known
                ? (text with { Value = text.Value[..at] }, known)
                : (text, null);
        }
        if (item is not MapNode || list != LogList.Failed)
        {
            read.Wrong(
                item,
                list == LogList.Failed
                    ? "write a pattern, or '{pattern: …, class: …}'"
                    : $"every item under '{key}' is a pattern, a single text"
            );
            return (null, null);
        }
        var map = read.Map(item, ["pattern", "class"]);
        return (map.Required("pattern", "say what is to be found"), read.Word<FailureClass>(map.Scalar("class")));
    }

    /// <summary>One pattern in two lists that say different things.</summary>
    private static void Contradictions(List<LogRule> rules, CharterNode node, ValueReader read)
    {
        foreach (
            var twice in rules
                .Where(r => r.List is LogList.Ok or LogList.Warned or LogList.Failed or LogList.Ignores)
                .GroupBy(r => r.Pattern.Source)
                .Where(g => g.Select(r => r.List).Distinct().Count() > 1)
        )
            read.Wrong(
                node,
                $"the pattern '{twice.Key}' stands under {string.Join(" and ", twice.Select(r => Kebab.Of(r.List)).Distinct())}; a line "
                    + $"can mean only one of them"
            );
        foreach (var hidden in rules.Where(r => r is { List: LogList.Ignores, Pattern: { Expression: null, Literal: not null } }))
        foreach (
            var rule in rules.Where(r =>
                r.List is not LogList.Ignores
                && r.Pattern.Literal?.Contains(hidden.Pattern.Literal!, StringComparison.OrdinalIgnoreCase) == true
                && r.Pattern.Source != hidden.Pattern.Source
            )
        )
            read.Wrong(
                node,
                $"'{rule.Pattern.Source}' under {Kebab.Of(rule.List)} can match nothing: '{hidden.Pattern.Source}' under ignores takes "
                    + $"every such line"
            );
    }

    private static ExitCodes? Codes(CharterNode? node, ValueReader read)
    {
        if (node is null)
            return null;
        if (node is ScalarNode one)
        {
            // "ok 0-3; warned 4, 6-7"
            var parts = one
                .Value.Split(';', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries)
                .Select(p => p.Split(' ', 2))
                .ToList();
            if (!parts.TrueForAll(p => p is ["ok" or "warned", _]))
            {
                read.Wrong(one, $"'{one.Value}' is not understood; write '{{ ok: 0-3, warned: [4, 6-7] }}'");
                return null;
            }
            return Make(
                parts.Where(p => p[0] == "ok").SelectMany(p => p[1].Split(',')).Select(t => one with { Value = t.Trim() }),
                parts.Where(p => p[0] == "warned").SelectMany(p => p[1].Split(',')).Select(t => one with { Value = t.Trim() }),
                read,
                one
            );
        }
        var map = read.Map(node, ["ok", "warned"]);
        return Make(Pieces(map.Strings("ok")), Pieces(map.Strings("warned")), read, node);

        static IEnumerable<ScalarNode> Pieces(List<ScalarNode>? nodes) =>
            (nodes ?? []).SelectMany(n => n.Value.Split(',').Select(t => n with { Value = t.Trim() }));
    }

    private static ExitCodes? Make(IEnumerable<ScalarNode> ok, IEnumerable<ScalarNode> warned, ValueReader read, CharterNode at)
    {
        var (good, odd) = (Ranges(ok, read), Ranges(warned, read));
        if (good.Any(g => odd.Any(o => g.From <= o.To && o.From <= g.To)))
        {
            read.Wrong(at, "one exit code is both ok and warned; leave it in one of the two");
            return null;
        }
        return new ExitCodes(good.Length == 0 ? ExitCodes.Usual.Ok : good, odd);
    }

    private static ImmutableArray<(int From, int To)> Ranges(IEnumerable<ScalarNode> nodes, ValueReader read)
    {
        var ranges = ImmutableArray.CreateBuilder<(int, int)>();
        foreach (var node in nodes)
        {
            var ends = node.Value.Split('-', StringSplitOptions.TrimEntries);
            if (
                ends.Length is 1 or 2
                && ends.All(e => int.TryParse(e, NumberStyles.None, CultureInfo.InvariantCulture, out var c) && c <= 255)
                && int.Parse(ends[0], CultureInfo.InvariantCulture) <= int.Parse(ends[^1], CultureInfo.InvariantCulture)
            )
                ranges.Add((int.Parse(ends[0], CultureInfo.InvariantCulture), int.Parse(ends[^1], CultureInfo.InvariantCulture)));
            else
                read.Wrong(node, $"'{node.Value}' is not an exit code or a range of them; write numbers from 0 to 255, such as 0-3");
        }
        return ranges.ToImmutable();
    }

    /// <summary>
    /// Logs with what they come to. One that the rules judge otherwise is a mistake: the rules have changed their meaning.
    /// </summary>
    private static ImmutableArray<LogExample> Examples(CharterNode? node, LogRules rules, ValueReader read)
    {
        var examples = ImmutableArray.CreateBuilder<LogExample>();
        var items = node switch
        {
            null => [],
            ListNode list => list.Items.AsEnumerable(),
            _ => [node],
        };
        foreach (var item in items.Take(MostExamples + 1))
        {
            if (Example(item, read) is not { } example)
                continue;
            examples.Add(example);
            var (outcome, why) = Judge(rules, example);
            if (outcome != example.Outcome)
                read.Wrong(
                    item,
                    $"example '{example.Name}' shall come to {Kebab.Of(example.Outcome)}, and by these rules it is {Kebab.Of(outcome)}: "
                        + $"{why}; mend the rule, or the example"
                );
        }
        if (items.Count() > MostExamples)
            read.Wrong(node!, $"there are more than {MostExamples} examples; keep those that tell cases apart");
        return examples.ToImmutable();
    }

    private static LogExample? Example(CharterNode item, ValueReader read)
    {
        if (item is ScalarNode text)
        {
            // "night 12: failed, exit code 3" and the log below it.
            var end = text.Value.IndexOf('\n', StringComparison.Ordinal);
            var head = end < 0 ? text.Value : text.Value[..end];
            var colon = head.LastIndexOf(": ", StringComparison.Ordinal);
            var words = colon < 0 ? [] : head[(colon + 2)..].Split(", exit code ");
            if (
                words.Length is 1 or 2
                && Kebab.Read<Outcome>(words[0]) is { } said
                && (words.Length == 1 || int.TryParse(words[1], NumberStyles.None, CultureInfo.InvariantCulture, out _))
            )
                return new LogExample(
                    head[..colon],
                    end < 0 ? "" : text.Value[(end + 1)..],
                    said,
                    words.Length == 1 ? null : int.Parse(words[1], CultureInfo.InvariantCulture)
                );
            read.Wrong(item, "an example begins with a line such as 'night 12: failed, exit code 3'; its log stands below");
            return null;
        }
        var map = read.Map(item, ["name", "log", "outcome", "exit-code"]);
        var (name, log, outcome) = (
            map.Required("name", "give the example a name"),
            map.Required("log", "write the lines of the log: 'log: |'"),
            read.Word<Outcome>(map.Required("outcome", "say what it shall come to: 'outcome: failed'"))
        );
        var code = read.Number(map.Scalar("exit-code"), "an exit code", 0, 255);
        return name is null || log is null || outcome is null ? null : new LogExample(name.Value, log.Value, outcome.Value, code);
    }

    /// <summary>What an example comes to: its last run.</summary>
    public static (Outcome Outcome, string Why) Judge(LogRules rules, LogExample example)
    {
        LogRun? last = null;
        var reader = new LogReader(rules, NodaTime.DateTimeZone.Utc, NodaTime.Instant.FromUtc(2026, 1, 1, 0, 0), run => last = run);
        reader.Feed(example.Log);
        reader.Finish();
        var verdict = LogJudge.Of(rules, last, example.ExitCode);
        return (verdict.Outcome, verdict.Sentence);
    }

    /// <summary>The forms in one text.</summary>
    internal static string Text(LogRule rule) =>
        rule.Class is { } named ? $"{rule.Pattern.Source}{Means}{Kebab.Of(named)}" : rule.Pattern.Source;

    internal static string? Text(ExitCodes codes)
    {
        if (codes.Ok.SequenceEqual(ExitCodes.Usual.Ok) && codes.Warned.Length == 0)
            return null;
        return string.Join(
            "; ",
            new[] { ("ok", codes.Ok), ("warned", codes.Warned) }
                .Where(p => p.Item2.Length > 0)
                .Select(p => $"{p.Item1} {string.Join(", ", p.Item2.Select(r => r.From == r.To ? $"{r.From}" : $"{r.From}-{r.To}"))}")
        );
    }

    internal static string Text(LogExample example) =>
        $"{example.Name}: {Kebab.Of(example.Outcome)}{(example.ExitCode is { } code ? $", exit code {code}" : "")}\n{example.Log}";
}
