using System.Globalization;
using System.Text;
using CsCheck;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using IronKeep.Yaml;
using NodaTime;
using NodaTime.Text;

namespace IronKeep.Core.Tests;

public sealed class LogRuleTests
{
    private static readonly Instant Now = Instant.FromUtc(2026, 11, 29, 12, 0);
    private static readonly DateTimeZone London = DateTimeZoneProviders.Tzdb["Europe/London"];

    private const string Photos = """
        begins: "=== copy of {what} started {time}"
        ends: ["=== finished {time}", "=== aborted"]
        times: "dd.MM.yyyy HH:mm:ss"
        zone: Europe/London
        ok: "done"
        warned: "/^WARN/"
        failed: ["fatal", "cannot write *", {pattern: "no space left", class: store-full}]
        ignores: "deprecated"
        figures: ["{items} files, {size} copied in {duration}", "{errors} errors", "{skipped} skipped", "exit {code}"]
        exit-codes: { ok: 0-3, warned: [4, 6-7] }
        """;

    private static LogRules Rules(string yaml)
    {
        var (root, problem) = CharterYaml.ReadNodes(yaml);
        Assert.True(root is not null, problem?.Message);
        var (rules, mistakes) = LogRulesReader.Read(root!, "test");
        Assert.True(rules is not null, string.Join('\n', mistakes.Select(m => m.Message)));
        return rules!;
    }

    private static List<LogRun> Read(LogRules rules, string log, int piece = int.MaxValue, DateTimeZone? zone = null)
    {
        var runs = new List<LogRun>();
        var reader = new LogReader(rules, zone ?? DateTimeZone.Utc, Now, runs.Add);
        for (var at = 0; at < log.Length; at += Math.Min(piece, log.Length - at))
            reader.Feed(log.AsSpan(at, Math.Min(piece, log.Length - at)));
        reader.Finish();
        return runs;
    }

    private static string Say(LogRules rules, LogRun run, int? code = null)
    {
        var v = LogJudge.Of(rules, run, code);
        return $"{Kebab.Of(v.Outcome)} {(v.Class is { } c ? Kebab.Of(c) : "-")} "
            + $"{string.Join(' ', v.Evidence.Select(e => $"{e.Line}{Kebab.Of(e.List)[0]}"))}";
    }

    [Theory]
    [InlineData("=== finished 03.11.2026 23:05:00\ndone", "failed unknown ")]
    [InlineData("done\n=== aborted", "ok - 2o")]
    [InlineData("done\nFATAL error\n=== aborted", "failed reported 3f")]
    [InlineData("fatal\ndone\n=== aborted", "ok - 3o")]
    [InlineData("fatal deprecated\ndone\n=== aborted", "ok - 3o")]
    [InlineData("WARN a\ndone\nWARN b\n=== aborted", "warned - 2w 3o 4w")]
    [InlineData("warn a\ndone\n=== aborted", "ok - 3o")]
    [InlineData("WARN a\n=== aborted", "warned - 2w")]
    [InlineData("WARN fatal\n=== aborted", "failed reported 2f")]
    [InlineData("cannot  write x: no space\tleft\n=== aborted", "failed store-full 2f")]
    [InlineData("0 errors\n1 skipped\ndone\n=== aborted", "warned - 3f 4o")]
    [InlineData("2 errors\n=== aborted", "failed reported 2f")]
    [InlineData("2 errors\ndone\n=== aborted", "ok - 3o")]
    [InlineData("done\n0 files, 12 kB copied in 3 s\n=== aborted", "suspect - 2o 3f")]
    [InlineData("done\n12 files, 0 B copied in 3 s\n=== aborted", "suspect - 2o 3f")]
    [InlineData("done\nexit 3\n=== aborted", "ok - 2o")]
    [InlineData("done\nexit 4\n=== aborted", "warned - 2o 3f")]
    [InlineData("done\nexit 5\n=== aborted", "failed exit-code 2o 3f")]
    [InlineData("fatal\nexit 0\n=== aborted", "failed reported 2f")]
    [InlineData("done", "failed no-end 2o")]
    public void A_run_comes_to_what_its_lines_say(string lines, string expected)
    {
        var rules = Rules(Photos);
        var run = Assert.Single(Read(rules, $"=== copy of photos started 03.11.2026 23:00:07\n{lines}\n"));
        Assert.Equal(expected, Say(rules, run));
        Assert.Equal("photos", run.Named["what"]);
    }

    [Fact]
    public void A_reported_code_stands_over_one_that_was_read_and_an_empty_log_has_the_code_alone()
    {
        var rules = Rules(Photos);
        var run = Assert.Single(Read(rules, "=== copy of x started 03.11.2026 23:00:07\ndone\nexit 9\n=== aborted\n"));
        Assert.Equal("ok - 2o", Say(rules, run, 2));
        Assert.Equal("warned - 2o", Say(rules, run, 6));
        Assert.Equal((Outcome.Failed, FailureClass.ExitCode), (LogJudge.Of(rules, null, 5).Outcome, LogJudge.Of(rules, null, 5).Class));
        Assert.Equal(
            (Outcome.Failed, FailureClass.Unknown),
            (LogJudge.Of(rules, null, null).Outcome, LogJudge.Of(rules, null, null).Class)
        );
        Assert.Equal(Outcome.Failed, LogJudge.Of(LogRules.None, null, 1).Outcome);
    }

    [Fact]
    public void Only_twenty_warnings_are_kept_and_all_are_counted()
    {
        var rules = Rules("warned: odd");
        var run = Assert.Single(Read(rules, string.Concat(Enumerable.Repeat("odd\n", 25))));
        Assert.Equal((25, 20), (run.WarnedCount, LogJudge.Of(rules, run, 0).Evidence.Length));
    }

    [Theory]
    [InlineData("items", "{items} files", "took 12 files", "12")]
    [InlineData("items", "{items} files", "1,234,567 files", "1,234,567")]
    [InlineData("items", "{items} files", "3.14 files", null)]
    [InlineData("items", "{items} files", "1.234 files", "1.234")]
    [InlineData("items", "{items} files", "12'345 files", "12'345")]
    [InlineData("items", "{items} files", "10 000 files", "10 000")]
    [InlineData("items", "{items} files", "1234 567 files", "567")]
    [InlineData("items", "files: {items}", "files: 12.5", null)]
    [InlineData("items", "files: {items}", "files: 12.", "12")]
    [InlineData("items", "files: {items}", "files: 1,23", null)]
    [InlineData("size", "copied {size}", "copied 1.5GB", "1.5GB")]
    [InlineData("size", "copied {size}", "copied 3,5 MiB in all", "3,5 MiB")]
    [InlineData("size", "copied {size}", "copied 12 Monkeys", null)]
    [InlineData("size", "copied {size}", "copied 12", null)]
    [InlineData("duration", "in {duration}", "in 1:02:03", "1:02:03")]
    [InlineData("duration", "in {duration}", "in 1h 2m", "1h 2m")]
    [InlineData("duration", "in {duration}", "in PT4M30S.", "PT4M30S")]
    [InlineData("code", "exit {code}", "exit -1", "-1")]
    [InlineData("name", "of {name} to", "copy of a b to c to d", "a b")]
    [InlineData("name", "of {name}", "copy of a b ", "a b ")]
    [InlineData("items", @"\{{items}\} done", "{7} done", "7")]
    [InlineData("items", "^{items} * end$", "5 at the end", "5")]
    [InlineData("items", "^{items} * end$", "x 5 at the end", null)]
    public void A_pattern_reads_a_value_or_does_not_match(string name, string pattern, string line, string? expected)
    {
        var (read, problem) = LogPattern.Read(pattern, LogTimes.Usual);
        Assert.True(read is not null, problem);
        Assert.Equal(expected is not null, read!.IsMatch(line));
        if (expected is not null)
            Assert.Equal(expected, read.ValuesOf(line).Single(v => v.Name == name).Text);
    }

    [Theory]
    [InlineData("1,234", 1234L)]
    [InlineData("1 234 567", 1234567L)]
    [InlineData("1,234.567", null)]
    [InlineData("12,34", null)]
    [InlineData("99999999999999999999", null)]
    public void Whole_numbers(string text, long? expected) => Assert.Equal(expected, LogValues.ReadWhole(text));

    [Theory]
    [InlineData("1.5 GB", 1_500_000_000L)]
    [InlineData("1,5 GiB", 1_610_612_736L)]
    [InlineData("1,234.5 kB", 1_234_500L)]
    [InlineData("2K", 2048L)]
    [InlineData("2 bytes", 2L)]
    [InlineData("1 TB", 1_000_000_000_000L)]
    [InlineData("99999999999 TB", null)]
    public void Sizes(string text, long? expected) => Assert.Equal(expected, LogValues.ReadSize(text));

    [Theory]
    [InlineData("1:02:03", 3723)]
    [InlineData("02:03", 123)]
    [InlineData("4m30s", 270)]
    [InlineData("1h 2m", 3720)]
    [InlineData("270 s", 270)]
    [InlineData("4.5 min", 270)]
    [InlineData("PT4M30S", 270)]
    [InlineData("2 days 1 hour", 176400)]
    [InlineData("0,25 s", 0.25)]
    public void Durations(string text, double expected) => Assert.Equal(expected, LogValues.ReadDuration(text));

    [Theory]
    [InlineData("2026-11-03T23:00:07Z", "2026-11-03T23:00:07Z")]
    [InlineData("2026-11-03T23:00:07+02:00", "2026-11-03T21:00:07Z")]
    [InlineData("2026-11-03 23:00:07", "2026-11-03T23:00:07Z")]
    [InlineData("2026-07-03 23:00:07,500", "2026-07-03T22:00:07.5Z")]
    [InlineData("Nov  3 23:00:07", "2026-11-03T23:00:07Z")]
    [InlineData("Dec 24 23:00:07", "2025-12-24T23:00:07Z")]
    [InlineData("Feb 29 01:00:00", "2024-02-29T01:00:00Z")]
    [InlineData("1793747607", "2026-11-03T23:13:27Z")]
    [InlineData("2026-13-03 23:00:07", null)]
    [InlineData("2026-02-30 23:00:07", null)]
    // Nobody's clock said this: it is the first instant behind the gap.
    [InlineData("2026-03-29 01:30:00", "2026-03-29T01:00:00Z")]
    [InlineData("2026-10-25 01:30:00", "2026-10-25T00:30:00Z")]
    public void Times(string text, string? expected) =>
        Assert.Equal(expected, LogTimes.Usual.ReadAt(text, London, Now, null) is { } at ? InstantPattern.ExtendedIso.Format(at) : null);

    [Fact]
    public void A_time_that_comes_twice_is_the_one_that_is_not_before_the_line_above()
    {
        var rules = Rules("begins: 'begin {time}'\nends: 'end {time}'\nok: done");
        var run = Assert.Single(Read(rules, "begin 2026-10-25 01:40:00\ndone\nend 2026-10-25 01:10:00\n", zone: London));
        Assert.Equal(Duration.FromMinutes(30), run.Ended - run.Began);
    }

    private static readonly Gen<string> Lines = Gen.OneOf(
        Pick.Of(
            "begin a",
            "end",
            "done",
            "DONE ",
            "fatal: x",
            "warn me",
            "ignore fatal",
            "",
            "   ",
            "12 files",
            "0 files",
            "3 errors",
            "noise noise",
            "x\r",
            "äß€ done",
            "e42 y"
        ),
        Gen.String[Gen.Char["ab de\t"], 0, 12]
    );

    private static readonly Gen<string> Sets = Pick.Of(
        "begins: begin\nends: end\nok: done\nfailed: fatal\nwarned: warn\nignores: ignore\nfigures: ['{items} files', '{errors} errors']",
        "begins: begin\nok: done\nfailed: [fatal, '/^e[0-9]+ /']",
        "ends: [end]\nok: done\nfailed: '/[0-9]{2} y/'\nwarned: '/w[aeiou]rn|\\\\s{3}/'",
        "ok: ['d', '/^x/']\nfailed: '/fatal|ignore/'",
        "ok: ne\nfailed: ['x', '/a\\s*$/', '/[$]|fa/']\nwarned: '/m[^e]?e?$/'"
    );

    /// <summary>However a log is cut, and by the slow way that tries every pattern on every line, the same runs are found.</summary>
    [Fact]
    public void A_log_cut_anywhere_gives_the_runs_that_a_line_by_line_referee_finds()
    {
        Gen.Select(Sets, Lines.Array[0, 40], Gen.Int[1, 17], Gen.Bool)
            .Sample(
                (set, lines, piece, ends) =>
                {
                    var rules = Rules(set);
                    var log = string.Join('\n', lines) + (ends ? "\n" : "");
                    var expected = string.Join('|', Referee.Runs(rules, log));
                    Assert.Equal(expected, string.Join('|', Read(rules, log).Select(r => $"{r.FirstLine}-{r.LastLine} {Say(rules, r)}")));
                    Assert.Equal(
                        expected,
                        string.Join('|', Read(rules, log, piece).Select(r => $"{r.FirstLine}-{r.LastLine} {Say(rules, r)}"))
                    );
                },
                iter: 4000
            );
    }

    /// <summary>Section 9 read aloud: each line, each list, nothing clever.</summary>
    private static class Referee
    {
        private sealed class Run(int first)
        {
            public readonly int First = first;
            public int Last;
            public bool Ended;
            public (int Line, char List, bool Ok)? Deciding;
            public readonly List<(int, char)> Warned = [];
            public long? Items;
            public int ItemsLine;
        }

        public static IEnumerable<string> Runs(LogRules rules, string log)
        {
            var all = log.Split('\n').ToList();
            if (all[^1].Length == 0)
                all.RemoveAt(all.Count - 1);
            Run? run = null;
            for (var i = 0; i < all.Count; i++)
            {
                var (line, number) = (all[i].EndsWith('\r') ? all[i][..^1] : all[i], i + 1);
                if (run is null && !rules.HasBegins && string.IsNullOrWhiteSpace(line))
                    continue;
                if (On(LogList.Ignores))
                {
                    if (run is not null)
                        run.Last = number;
                    continue;
                }
                if (On(LogList.Begins))
                {
                    if (run is not null)
                        yield return Say(run);
                    run = new Run(number);
                }
                if (run is null && !rules.HasBegins)
                    run = new Run(number);
                if (run is null)
                    continue;
                run.Last = number;
                var list =
                    On(LogList.Failed) ? 'f'
                    : On(LogList.Warned) ? 'w'
                    : On(LogList.Ok) ? 'o'
                    : ' ';
                var words = line.Split(' ');
                if (On(LogList.Figures) && words is [var n, "files"])
                    (run.Items, run.ItemsLine) = (long.Parse(n, CultureInfo.InvariantCulture), number);
                if (On(LogList.Figures) && words is [var e, "errors"] && e != "0")
                    list = 'F';
                if (list is 'f' or 'o' or 'F')
                    run.Deciding = (number, list == 'F' ? 'f' : list, list == 'o');
                else if (list == 'w')
                    run.Warned.Add((number, 'w'));
                if (!On(LogList.Ends))
                    continue;
                run.Ended = true;
                yield return Say(run);
                run = null;

                bool On(LogList l) => rules.Rules.Any(r => r.List == l && Matches(r.Pattern.Source, line));
            }
            if (run is not null)
                yield return Say(run);

            static bool Matches(string source, string line) =>
                source[0] == '/' ? System.Text.RegularExpressions.Regex.IsMatch(line, source[1..^1])
                : source[0] == '{'
                    ? System.Text.RegularExpressions.Regex.IsMatch(
                        line,
                        "[0-9]+" + source[(source.IndexOf('}', StringComparison.Ordinal) + 1)..]
                    )
                : line.Contains(source, StringComparison.OrdinalIgnoreCase);

            string Say(Run r)
            {
                var marks = new List<(int Line, char List)>(r.Warned);
                if (r.Deciding is { } d)
                    marks.Add((d.Line, d.List));
                var verdict =
                    !r.Ended && rules.HasEnds ? "failed no-end"
                    : r.Deciding is { Ok: false } ? "failed reported"
                    : r.Deciding is null && r.Warned.Count == 0 ? "failed unknown"
                    : r.Warned.Count > 0 ? "warned -"
                    : "ok -";
                if (r.Items == 0 && verdict is "warned -" or "ok -" && r.Items == 0)
                {
                    verdict = "suspect -";
                    marks.Add((r.ItemsLine, 'f'));
                }
                return $"{r.First}-{r.Last} {verdict} {string.Join(' ', marks.OrderBy(m => m.Line).Select(m => $"{m.Line}{m.List}"))}";
            }
        }
    }

    [Theory]
    [InlineData("ok: ''", "a single text")]
    [InlineData("ok: '*'", "matches every line")]
    [InlineData("ok: '{what}'", "matches every line")]
    [InlineData("ok: '/x*/'", "matches every line")]
    [InlineData("ok: '/end$more/'", "can match no line")]
    [InlineData("ok: '/(a)\\1/'", "needs to look back")]
    [InlineData("ok: '/(?<=a)b/'", "needs to look back")]
    [InlineData("ok: '/(a/'", "no regular expression")]
    [InlineData("ok: '{items'", "nothing closes")]
    [InlineData("ok: '{items}{size}'", "touch each other")]
    [InlineData("ok: '{items} {items}'", "stands twice")]
    [InlineData("ok: 'a\\'", "ends with a backslash")]
    [InlineData("figures: 'all {what} done'", "reads no figure")]
    [InlineData("ok: done\nfailed: done", "can mean only one of them")]
    [InlineData("ok: 'all done'\nignores: done", "can match nothing")]
    [InlineData("times: 'HH:mm'", "leaves out the day")]
    [InlineData("times: 'dd.MM.yyyy qq'", "is no part of a time")]
    [InlineData("exit-codes: {ok: 0-3, warned: 3}", "both ok and warned")]
    [InlineData("exit-codes: {ok: 256}", "not an exit code")]
    [InlineData("failed: {pattern: x, class: nonsense}", "is not known here")]
    [InlineData("ends: x\nquiet-after: 5 minutes", "does not go with")]
    [InlineData("ok: done\nexamples: [{name: n, log: 'nothing', outcome: ok}]", "shall come to ok, and by these rules it is failed")]
    [InlineData("speed: 5", "unknown key")]
    public void What_is_wrong_with_rules_is_said(string yaml, string expected)
    {
        var (root, problem) = CharterYaml.ReadNodes(yaml);
        Assert.Null(problem);
        var (rules, mistakes) = LogRulesReader.Read(root!, "test");
        Assert.Null(rules);
        Assert.Contains(mistakes, m => m.Message.Contains(expected, StringComparison.Ordinal));
    }

    [Fact]
    public void Rules_written_as_a_charter_are_read_back_equal()
    {
        var rules = Rules(
            Photos
                + "\nexamples:\n  - {name: full disk, log: \"=== copy of x started 03.11.2026 23:00:07\\nno space left\\n=== aborted\\n\", "
                + "outcome: failed, exit-code: 1}"
        );
        var charter = Charter.Empty with { LogRules = Charter.Empty.LogRules.Add("test", rules) };
        var again = CharterYaml.Read(CharterWriter.Write(charter));
        Assert.Empty(again.Mistakes);
        Assert.Equal(rules, again.Charter!.LogRules["test"]);
        Assert.Equal(
            "failed store-full 2f",
            Say(again.Charter.LogRules["test"], Read(again.Charter.LogRules["test"], again.Charter.LogRules["test"].Examples[0].Log)[0])
        );
    }

    [Fact]
    public void Long_lines_are_cut_and_said_and_nothing_in_a_log_takes_for_ever()
    {
        var rules = Rules("failed: ['/(a+)+$/', '{items} files * in {duration}']\nok: done");
        var runs = new List<LogRun>();
        var reader = new LogReader(rules, DateTimeZone.Utc, Now, runs.Add);
        var piece = new string('a', 1_000_000) + "!";
        for (var i = 0; i < 100; i++)
            reader.Feed(piece);
        reader.Feed("\ndone\n\0\u0001\uFFFD binary\n");
        reader.Finish();
        Assert.Equal((3, 1), (reader.Lines, reader.LongLines));
        Assert.Equal("ok - 2o", Say(rules, runs[0]).Replace("failed reported 1f", "", StringComparison.Ordinal));
    }

    [Theory]
    [InlineData("utf-8")]
    [InlineData("utf-16")]
    [InlineData("utf-16BE")]
    [InlineData("latin1")]
    public void Bytes_become_text_whatever_wrote_them(string encoding)
    {
        var bytes = Encoding.GetEncoding(encoding) is { } e ? e.GetPreamble().Concat(e.GetBytes("fähre\nöffnet\n")).ToArray() : [];
        var decoder = new LogDecoder();
        var text = new StringBuilder();
        var room = new char[LogDecoder.MostOf(16)];
        for (var at = 0; at < bytes.Length; at += 4)
        {
            // A log is never cut before its mark is whole.
            var piece = bytes.AsSpan(at, Math.Min(4, bytes.Length - at));
            text.Append(room.AsSpan(0, decoder.Decode(piece, room)));
        }
        Assert.Equal("fähre\nöffnet\n", text.ToString());
    }
}
