using System.Collections.Immutable;
using System.Diagnostics;
using System.Globalization;
using System.Text;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using IronKeep.Yaml;
using NodaTime;
using YamlDotNet.Core;

namespace IronKeep.Bench;

/// <summary>
/// The planning core: schedules, retention, charters and forecasts, each beside a plain piece of work of the same size in the same round.
/// </summary>
internal static class Planning
{
    private const int Rounds = 5;
    private static readonly Instant AsOf = Instant.FromUtc(2026, 11, 23, 12, 0);
    private static readonly DateTimeZone[] Zones =
    [
        .. new[] { "Europe/London", "Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Asia/Kolkata" }.Select(z =>
            DateTimeZoneProviders.Tzdb[z]
        ),
    ];
    private static readonly string[] Forms =
    [
        "daily at 23:{0}",
        "weekdays at 22:{0}",
        "every 6 hours",
        "last fri of month at 03:{0}",
        "every 3 days at 01:{0} from 2026-01-05",
        "day 31 or last of month at 02:{0}",
        "{1} 4 * * 1-5",
        "DTSTART:20260105T02{0}00 RRULE:FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1",
        "first working day of month at 05:{0}",
        "yearly on feb 29 at 12:{0}",
    ];

    public static void Measure()
    {
        var table = new Table();
        for (var round = 0; round < Rounds; round++)
        {
            Schedules(table);
            Policies(table);
            Charters(table);
            Forecasts(table);
        }
        Console.WriteLine();
        Console.WriteLine($"planning; {Environment.ProcessorCount} cores, one of them used; median of {Rounds} rounds");
        table.Print();
    }

    private static void Schedules(Table table)
    {
        var schedules = Enumerable.Range(0, 100_000).Select(i => (Schedule: Read(Form(i)), Zone: Zones[i % Zones.Length])).ToArray();
        var found = 0;
        var next = Time(() => found = schedules.Count(s => DueInstants.Next(s.Schedule, s.Zone, AsOf) is not null));
        Need(found == schedules.Length);
        table.Add(
            "next due instant of 100,000 schedules of ten forms",
            next,
            "one instant to local time, 100,000 times",
            Time(() => ToLocal(100_000))
        );

        var daily = Enumerable
            .Range(0, 10_000)
            .Select(i => (Schedule: Read($"daily at {i / 60 % 24:00}:{i % 60:00}"), Zone: Zones[i % Zones.Length]))
            .ToArray();
        var count = 0L;
        var all = Time(() =>
        {
            foreach (var (schedule, zone) in daily)
            foreach (var _ in DueInstants.Between(schedule, zone, AsOf, AsOf + Duration.FromDays(365)))
                count++;
        });
        Need(count >= 3_640_000);
        table.Add(
            "all due instants of 10,000 daily jobs over 365 days (3.65 million)",
            all,
            "one instant to local time, 3.65 million times",
            Time(() => ToLocal(3_650_000))
        );
        table.Note(
            "a due instant",
            string.Create(CultureInfo.InvariantCulture, $"{all / count * 1e9:0} ns; a next one {next / schedules.Length * 1e6:0.0} µs")
        );
    }

    private static void Policies(Table table)
    {
        var policy = RetentionSentence.Read("newest 3 then 7 daily then 4 weekly then 12 monthly then 5 yearly").Policy!;
        var guards = new RetentionGuards(Zones[0]);
        var sets = Enumerable.Range(0, 1_200).Select(i => Copies(125, i)).ToArray();
        var reasons = 0L;
        var many = Time(() => reasons = sets.Sum(s => RetentionRules.Decide(policy, guards, s, AsOf).Copies.Sum(c => c.Reasons.Length)));
        Need(reasons >= 150_000);
        table.Add(
            "verdicts with reasons, 1,200 policies and 150,000 copies",
            many,
            "sorting 150,000 copies by time",
            Time(() => Sort(150_000))
        );
        var figures = new List<string>();
        foreach (var size in new[] { 25_000, 50_000, 100_000 })
        {
            var copies = Copies(size, 7);
            var took = Time(() => reasons = RetentionRules.Decide(policy, guards, copies, AsOf).Copies.Length);
            figures.Add(string.Create(CultureInfo.InvariantCulture, $"{size:n0}: {took / size * 1e6:0.00} µs"));
            if (size == 100_000)
                table.Add(
                    "verdicts with reasons, one job with 100,000 copies",
                    took,
                    "sorting 100,000 copies by time",
                    Time(() => Sort(size))
                );
        }
        table.Note("a verdict, by the number of copies", string.Join(" · ", figures));
    }

    private static void Charters(Table table)
    {
        var text = new StringBuilder(
            "charter: 1\nzone: Europe/London\nstores:\n  vault:\n    folder: /srv/vault\npolicies:\n  season:\n    keep: newest 3 then 7 "
                + "daily then 4 weekly\njobs:\n"
        );
        for (var i = 0; i < 10_000; i++)
            text.Append(
                CultureInfo.InvariantCulture,
                $"  job-{i}:\n    takes: [/srv/data/{i}]\n    leaves-out: [\"*.tmp\", cache/]\n    into: vault\n    when: "
                    + $"{Read(Form(i % 6)).ToSentence()}\n    policy: season\n    fresh-within: 30 hours\n    spread: 2 hours\n"
            );
        var yaml = text.ToString();
        CharterReading? reading = null;
        var ours = Time(() => reading = CharterYaml.Read(yaml));
        Need(reading!.Charter!.Jobs.Count == 10_000);
        table.Add(
            "reading and checking a charter of 10,000 jobs",
            ours,
            "parsing its YAML alone",
            Time(() =>
            {
                var parser = new Parser(new StringReader(yaml));
                while (parser.MoveNext()) { }
            })
        );
    }

    private static void Forecasts(Table table)
    {
        var input = ForecastInputOf(1_000);
        Forecast? forecast = null;
        GC.Collect();
        var before = GC.GetTotalMemory(true);
        var took = Time(() => forecast = Forecaster.Play(input));
        var held = GC.GetTotalMemory(false) - before;
        Need(forecast!.Runs.Length > 360_000);
        table.Add("forecast of 1,000 jobs over 365 nights", took, "sorting 365,000 runs by time", Time(() => Sort(365_000)));
        table.Note(
            "a played run",
            string.Create(
                CultureInfo.InvariantCulture,
                $"{took / forecast.Runs.Length * 1e6:0.0} µs; the forecast and its litter held {new ByteSize(held)}, the process at its "
                    + $"peak {new ByteSize(Process.GetCurrentProcess().PeakWorkingSet64)}"
            )
        );
    }

    /// <summary>Jobs of ten machines into four stores, due at night together, with 30 nights of copies behind them.</summary>
    private static ForecastInput ForecastInputOf(int jobs)
    {
        var policy = new PolicyDefinition(
            "season",
            RetentionSentence.Read("newest 3 then 7 daily then 4 weekly then 12 monthly").Policy!,
            2,
            null
        )
        {
            Promises = [new Span(3, SpanUnit.Months)],
        };
        var charter = Charter.Empty with { Zone = Zones[0], RunsAtOnce = 16, Policies = Charter.Empty.Policies.Add("season", policy) };
        for (var s = 0; s < 4; s++)
            charter = charter with
            {
                Stores = charter.Stores.Add(
                    $"store-{s}",
                    new StoreDefinition(
                        $"store-{s}",
                        $"/srv/{s}",
                        new ByteSize(40_000_000_000_000),
                        null,
                        StoreDefinition.UsualBin,
                        ReclaimWhen: Read("daily at 06:00")
                    )
                    {
                        RunsAtOnce = 6,
                    }
                ),
            };
        for (var m = 0; m < 10; m++)
            charter = charter with { Machines = charter.Machines.Add($"machine-{m}", new MachineDefinition($"machine-{m}", 2, null)) };
        var declared = ImmutableSortedDictionary.CreateBuilder<string, JobDefinition>(StringComparer.Ordinal);
        var assumed = new Dictionary<string, JobAssumptions>();
        var copies = new List<KnownCopy>();
        for (var i = 0; i < jobs; i++)
        {
            var job = new JobDefinition($"job-{i:0000}", ["/srv/data"], [$"store-{i % 4}"], "season")
            {
                Selection = IronKeep.Core.Machines.MachineSelection.Of($"machine-{i % 10}"),
                When = Read($"daily at {20 + i % 4}:00"),
                Prune = PruneTime.AfterSuccess,
                FreshWithin = new Span(30, SpanUnit.Hours),
            };
            declared[job.Name] = job;
            assumed[job.Name] = new JobAssumptions(
                20_000_000_000 + i * 1_000_000L,
                200_000_000,
                5_000_000,
                Duration.FromMinutes(2 + i % 5),
                AssumedFrom.History
            );
            copies.AddRange(
                Enumerable
                    .Range(1, 30)
                    .Select(n => new KnownCopy(
                        job.Name,
                        job.Into[0],
                        new CopyFacts($"{i}-{n}", AsOf - Duration.FromDays(n), CopyState.Sound)
                    ))
            );
        }
        return new ForecastInput(charter with { Jobs = declared.ToImmutable() }, "heron", 2, AsOf, 365) { Jobs = assumed, Copies = copies };
    }

    private static string Form(int i) =>
        string.Format(CultureInfo.InvariantCulture, Forms[i % Forms.Length], $"{i / 10 % 60:00}", i / 10 % 60);

    private static Schedule Read(string text) =>
        ScheduleText.Read(text).Schedule ?? throw new InvalidOperationException(ScheduleText.Read(text).Problem!.Message);

    private static List<CopyFacts> Copies(int count, int seed)
    {
        var random = new Random(seed);
        return
        [
            .. Enumerable
                .Range(0, count)
                .Select(i => new CopyFacts($"c{i:000000}", AsOf - Duration.FromMinutes(i * 240L + random.Next(200)), CopyState.Sound)),
        ];
    }

    private static void ToLocal(int count)
    {
        var sum = 0L;
        for (var i = 0; i < count; i++)
            sum += (AsOf + Duration.FromMinutes(i)).InZone(Zones[i % Zones.Length]).Hour;
        Need(sum > 0);
    }

    private static void Sort(int count)
    {
        var random = new Random(1);
        var copies = Enumerable.Range(0, count).Select(i => (AsOf - Duration.FromMinutes(random.Next(10_000_000)), $"{i}")).ToArray();
        Array.Sort(copies, (a, b) => a.Item1.CompareTo(b.Item1));
    }

    private static double Time(Action action)
    {
        var watch = Stopwatch.StartNew();
        action();
        return watch.Elapsed.TotalSeconds;
    }

    private static void Need(bool right)
    {
        if (!right)
            throw new InvalidOperationException("what was measured did not succeed");
    }
}
