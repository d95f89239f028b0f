using System.Diagnostics;
using System.Globalization;
using System.Text;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching.Logs;
using IronKeep.Yaml;
using NodaTime;

namespace IronKeep.Bench;

/// <summary>Judging a large log by twenty rules on one core, beside grep for the same twenty joined.</summary>
internal static class LogBench
{
    private const long Size = 1_000_000_000;
    private const int Rounds = 3;

    private const string Rules = """
        begins: "=== nightly copy started {time}"
        ends: ["=== nightly copy finished", "=== nightly copy aborted"]
        ok: ["copy complete", "all archives written"]
        warned: ["/WARN(ING)?:/", "file changed as we read it", "vanished before", "skipping socket"]
        failed: ["fatal", "cannot write *", "no space left", "broken pipe", "permission denied", "/^E[0-9]{4} /", "input/output error"]
        ignores: "deprecated option"
        figures: ["{items} files, {size} copied in {duration}", "total {errors} errors", "{skipped} entries skipped"]
        """;

    private const string Joined =
        "=== nightly copy started|=== nightly copy finished|=== nightly copy aborted|copy complete|all archives written|WARN(ING)?:|file "
        + "changed as we read it|vanished before|skipping socket|fatal|cannot write .*|no space left|broken pipe|permission "
        + "denied|^E[0-9]{4} |input/output error|deprecated option|[0-9]+ files, [0-9.]+ [kMGT]?B copied in|total [0-9]+ errors|[0-9]+ "
        + "entries skipped";

    public static void Measure(string folder)
    {
        Shell.Run($"rm -rf '{folder}' && mkdir -p '{folder}'");
        var file = folder + "/large.log";
        var lines = Make(file);
        var (root, _) = CharterYaml.ReadNodes(Rules);
        var (rules, mistakes) = LogRulesReader.Read(root!, "bench");
        if (rules is null)
            throw new InvalidOperationException(string.Join('\n', mistakes));
        var table = new Table();
        for (var round = 0; round < Rounds; round++)
        {
            var watch = Stopwatch.StartNew();
            Shell.Run($"LC_ALL=C taskset -c 0 grep -c -E '{Joined}' '{file}'");
            var grep = watch.Elapsed.TotalSeconds;
            watch.Restart();
            var (runs, read) = Judge(rules, file);
            table.Add("judging 1 GB of log with 20 rules", watch.Elapsed.TotalSeconds, "grep -c -E of them joined", grep);
            table.Note(
                $"round {round + 1}",
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"{runs} runs in {read} of {lines} lines, {read / watch.Elapsed.TotalSeconds:0} lines/s"
                )
            );
        }
        table.Print();
        Shell.Run($"rm -rf '{folder}'");
    }

    private static (int Runs, long Lines) Judge(LogRules rules, string file)
    {
        var runs = 0;
        var reader = new LogReader(rules, DateTimeZone.Utc, SystemClock.Instance.GetCurrentInstant(), run =>
            runs += LogJudge.Of(rules, run, null).Evidence.Length >= 0 ? 1 : 0
        );
        var (bytes, text, decoder) = (new byte[256 * 1024], new char[LogDecoder.MostOf(256 * 1024)], new LogDecoder());
        using var log = new FileStream(file, new FileStreamOptions { BufferSize = 0 });
        while (log.Read(bytes) is > 0 and var read)
            reader.Feed(text.AsSpan(0, decoder.Decode(bytes.AsSpan(0, read), text)));
        reader.Finish();
        return (runs, reader.Lines);
    }

    /// <summary>Nights of a copying tool: one line a file, now and then a warning, figures at the end.</summary>
    private static long Make(string file)
    {
        var random = new Random(5);
        var lines = 0L;
        using var log = new StreamWriter(file, false, new UTF8Encoding(false), 1 << 20);
        var at = new DateTime(2026, 1, 1, 23, 0, 0, DateTimeKind.Utc);
        for (long written = 0; written < Size; at = at.AddDays(1))
        {
            var night = new StringBuilder();
            night.Append(CultureInfo.InvariantCulture, $"=== nightly copy started {at:yyyy-MM-dd HH:mm:ss}\n");
            var files = 20_000 + random.Next(20_000);
            for (var i = 0; i < files; i++)
            {
                if (random.Next(300) == 0)
                    night.Append("WARNING: file changed as we read it\n");
                night.Append(
                    CultureInfo.InvariantCulture,
                    $"{at:HH:mm:ss} stored "
                        + $"/srv/calls/2026/{random.Next(12):00}/{random.Next(31):00}/plover-{random.Next(1_000_000):000000}.wav, "
                        + $"{random.Next(9_000_000)} bytes\n"
                );
            }
            night.Append(
                CultureInfo.InvariantCulture,
                $"{files:N0} files, 4.2 GB copied in 1:02:03\ntotal 0 errors\ncopy complete\n=== nightly copy finished\n"
            );
            log.Write(night);
            written += night.Length;
            lines += night.ToString().AsSpan().Count('\n');
        }
        return lines;
    }
}
