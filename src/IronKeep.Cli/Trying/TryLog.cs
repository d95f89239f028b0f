using System.CommandLine;
using IronKeep.Cli.Printing;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Core.Watching.Logs;
using IronKeep.Yaml;
using NodaTime;

namespace IronKeep.Cli.Trying;

/// <summary>What a set of rules makes of a log, without a service.</summary>
internal static class TryLog
{
    internal sealed record FiguresLine(long? Items, long? Bytes, double? Seconds, long? Skipped, long? Errors);

    internal sealed record TriedEvidence(long Line, string List, string Text);

    internal sealed record RunLine(
        string? Began,
        string? Ended,
        string Outcome,
        string? Class,
        FiguresLine Figures,
        int? Code,
        IReadOnlyList<TriedEvidence> Evidence
    );

    internal sealed record Answer(IReadOnlyList<RunLine> Runs, long Lines);

    public static Command Make()
    {
        var rulesOption = new Option<string>("--rules")
        {
            Description = "A file with a set of rules; with NAME@FILE, that set of a charter",
            Required = true,
        };
        var logOption = new Option<string>("--log") { Description = "The log; - for standard input", Required = true };
        var codeOption = new Option<int?>("--exit-code") { Description = "The exit code of the last run" };
        var zoneOption = TryCommands.ZoneOption;
        var command = new Command("log", "Shows what rules make of a log: its runs, their outcomes and the lines that decided")
        {
            rulesOption,
            logOption,
            codeOption,
            zoneOption,
        };
        command.SetAction(parsed =>
        {
            var rules = RulesOf(parsed.GetValue(rulesOption)!);
            var zone = TryCommands.Zone(parsed.GetValue(zoneOption)!);
            var runs = new List<LogRun>();
            var reader = new LogReader(rules, zone, SystemClock.Instance.GetCurrentInstant(), runs.Add);
            Read(parsed.GetValue(logOption)!, reader);
            var code = parsed.GetValue(codeOption);
            // A log that says nothing has a run all the same, where its exit code is known.
            if (runs.Count == 0 && code is not null)
                runs.Add(new LogRun { FirstLine = 0 });
            var judged = runs.Select(
                    (r, i) =>
                        (
                            Run: r,
                            Verdict: LogJudge.Of(rules, r, i == runs.Count - 1 ? code : null),
                            Code: (i == runs.Count - 1 ? code : null) ?? r.Code
                        )
                )
                .ToList();
            if (Common.AsJson(parsed))
                Show.Json(new Answer([.. judged.Select(j => Line(j.Run, j.Verdict, j.Code))], reader.Lines));
            else
                Print(judged, reader, rules.Zone ?? zone);
            return judged.Count > 0 && judged.TrueForAll(j => j.Verdict.Outcome == Outcome.Ok) ? Root.Done : Root.Findings;
        });
        return command;
    }

    private static RunLine Line(LogRun run, LogVerdict verdict, int? code) =>
        new(
            run.Began is { } began ? TryCommands.Utc(began) : null,
            run.Ended is { } ended ? TryCommands.Utc(ended) : null,
            Kebab.Of(verdict.Outcome),
            verdict.Class is { } failure ? Kebab.Of(failure) : null,
            new FiguresLine(run.Items, run.Bytes, verdict.Seconds, run.Skipped, run.Errors),
            code,
            [.. verdict.Evidence.Select(e => new TriedEvidence(e.Line, Kebab.Of(e.List), e.Text))]
        );

    private static void Print(List<(LogRun Run, LogVerdict Verdict, int? Code)> judged, LogReader reader, DateTimeZone zone)
    {
        foreach (var (run, verdict, code) in judged)
        {
            Show.Line(
                $"{Kebab.Of(verdict.Outcome).ToUpperInvariant()}{(verdict.Class is { } failure ? $" ({Kebab.Of(failure)})" : "")}  "
                    + $"{(run.Began is { } began ? Show.Zoned(TryCommands.Local(began, zone)) : $"from line {run.FirstLine}")}"
                    + $"{(run.Ended is { } ended ? $" to {Show.Zoned(TryCommands.Local(ended, zone))}" : "")}: "
                    + $"{verdict.Sentence}"
            );
            var figures = new[]
            {
                Say(run.Items, "items"),
                run.Bytes is { } bytes ? new ByteSize(bytes).ToString() : null,
                verdict.Seconds is { } s ? Show.Took(s) : null,
                Say(run.Skipped, "skipped"),
                Say(run.Errors, "errors"),
                code is { } c ? $"exit code {c}" : null,
            }
                .OfType<string>()
                .ToList();
            if (figures.Count > 0)
                Show.Line($"  {string.Join(", ", figures)}");
            foreach (var mark in verdict.Evidence)
                Show.Line($"  line {mark.Line}, {Kebab.Of(mark.List)}: {mark.Text}");
            if (run.WarnedCount > run.Warned.Count)
                Show.Line($"  and {run.WarnedCount - run.Warned.Count} more lines that warned");
        }
        if (judged.Count == 0)
            Show.Line($"No run begins in {Counted.Of(reader.Lines, "line")}; look whether 'begins' fits the log");
        else
            Show.Line($"{Counted.Of(judged.Count, "run")} in {Counted.Of(reader.Lines, "line")}");
        if (reader.LongLines > 0)
            Show.Line(
                $"Of {Counted.Of(reader.LongLines, "line")} longer than {LogPattern.MostOfLine} characters, only the begin was looked at"
            );

        static string? Say(long? value, string what) => value is { } v ? $"{v} {what}" : null;
    }

    private static LogRules RulesOf(string name)
    {
        var at = name.IndexOf('@', StringComparison.Ordinal);
        var (set, file) = at > 0 && !File.Exists(name) ? (name[..at], name[(at + 1)..]) : (null, name);
        var text = TryCommands.Read(file);
        if (set is not null)
        {
            var reading = CharterYaml.Read(text);
            if (reading.Charter is null)
                throw Wrong(file, reading.Mistakes);
            return reading.Charter.LogRules.TryGetValue(set, out var found)
                ? found
                : throw TryCommands.NotUnderstood(
                    $"{file} has no log rules '{set}'; it has {string.Join(", ", reading.Charter.LogRules.Keys.DefaultIfEmpty("none"))}"
                );
        }
        var (root, problem) = CharterYaml.ReadNodes(text);
        if (root is null)
            throw Wrong(file, [problem!]);
        var (rules, mistakes) = LogRulesReader.Read(root, Path.GetFileNameWithoutExtension(file));
        return rules ?? throw Wrong(file, mistakes);
    }

    private static Client.AnswerException Wrong(string file, IEnumerable<Mistake> mistakes) =>
        TryCommands.NotUnderstood(string.Join('\n', mistakes.Select(m => $"{file}:{m.Line}:{m.Column}: {m.Message}")));

    private static void Read(string file, LogReader reader)
    {
        var (bytes, text) = (new byte[256 * 1024], new char[LogDecoder.MostOf(256 * 1024)]);
        var decoder = new LogDecoder();
        try
        {
            using var log =
                file == "-"
                    ? Console.OpenStandardInput()
                    : new FileStream(file, new FileStreamOptions { BufferSize = 0, Options = FileOptions.SequentialScan });
            while (log.Read(bytes) is > 0 and var read)
                reader.Feed(text.AsSpan(0, decoder.Decode(bytes.AsSpan(0, read), text)));
            reader.Finish();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw TryCommands.NotUnderstood($"{file} cannot be read: {e.Message}");
        }
    }
}
