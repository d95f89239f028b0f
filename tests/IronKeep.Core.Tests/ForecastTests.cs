using CsCheck;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Tests;

public sealed class ForecastTests
{
    private static readonly Instant AsOf = Instant.FromUtc(2026, 11, 23, 12, 0);
    private static readonly DateTimeZone London = DateTimeZoneProviders.Tzdb["Europe/London"];

    private static Charter Make(string keep, params JobDefinition[] jobs) =>
        Charter.Empty with
        {
            Zone = London,
            Stores = Charter.Empty.Stores.Add(
                "vault",
                new StoreDefinition(
                    "vault",
                    "/srv/vault",
                    null,
                    null,
                    new Span(3, SpanUnit.Days),
                    ReclaimWhen: ScheduleTests.Read("daily at 06:00")
                )
            ),
            Policies = Charter.Empty.Policies.Add("p", new PolicyDefinition("p", RetentionTests.Read(keep), 2, null)),
            Jobs = Charter.Empty.Jobs.AddRange(jobs.ToDictionary(j => j.Name)),
        };

    private static JobDefinition Job(string name, string when) =>
        new(name, ["/srv/data"], ["vault"], "p") { When = ScheduleTests.Read(when), Prune = PruneTime.AfterSuccess };

    private static JobAssumptions Takes(int minutes, long whole = 0, long change = 0, long growth = 0) =>
        new(whole, change, growth, Duration.FromMinutes(minutes), AssumedFrom.History);

    private static readonly Gen<ForecastInput> GenInput =
        from whens in Pick.Of(
            "daily at 23:00",
            "daily at 01:30",
            "weekdays at 23:00",
            "every 6 hours",
            "every 3 hours between 20:00 and 04:00",
            "last fri of month at 23:00"
        ).Array[1, 5]
        from keep in Pick.Of(
            "newest 3 then 4 daily then 3 weekly",
            "newest 2 and 5 daily and 2 monthly",
            "all within 9 days",
            "all within 40 hours and 6 daily",
            "3 hourly then 10 daily"
        )
        from minutes in Gen.Int[1, 300].Array[5]
        from ceilings in Gen.Int[1, 4].Array[3]
        from flags in Gen.Int[0, 9].Array[5]
        from known in Gen.Int[1, 3000].Array[0, 25]
        from states in Gen.Int[0, 11].Array[25]
        select Input(whens, keep, minutes, ceilings, flags, [.. known.Distinct()], states);

    private static ForecastInput Input(string[] whens, string keep, int[] minutes, int[] ceilings, int[] flags, int[] known, int[] states)
    {
        var jobs = whens
            .Select(
                (w, i) =>
                    Job($"j{i}", w) with
                    {
                        Selection = IronKeep.Core.Machines.MachineSelection.Of(i % 2 == 0 ? "heron" : null),
                        Overlap = flags[i] % 2 == 0 ? Overlap.Wait : Overlap.Skip,
                        Importance = 1 + flags[i] % 5,
                        Locks = flags[i] > 6 ? ["dock"] : [],
                        After = i == 2 ? "j0" : null,
                        When = i == 2 ? null : ScheduleTests.Read(w),
                    }
            )
            .ToArray();
        var charter = Make(keep, jobs) with
        {
            RunsAtOnce = ceilings[0],
            Machines = Charter.Empty.Machines.Add("heron", new MachineDefinition("heron", ceilings[1], null)),
        };
        charter = charter with { Stores = charter.Stores.SetItem("vault", charter.Stores["vault"] with { RunsAtOnce = ceilings[2] }) };
        var copies = known
            .Select(
                (hours, i) =>
                    new KnownCopy(
                        "j0",
                        "vault",
                        new CopyFacts(
                            $"k{i:00}",
                            AsOf - Duration.FromHours(hours),
                            CopyState.Sound,
                            Held: states[i % 25] == 0 ? "by mira" : null,
                            Doubted: states[i % 25] == 1
                        )
                    )
            )
            .ToList();
        return new ForecastInput(charter, "own", 2, AsOf, 60)
        {
            Jobs = jobs.Select((j, i) => (j, i)).ToDictionary(j => j.j.Name, j => Takes(minutes[j.i], 1_000_000, 20_000, 300)),
            Copies = copies,
        };
    }

    /// <summary>The referee: goes through the forecast's own runs and asks the retention rules after each what they would let go.</summary>
    [Fact]
    public void Copies_live_as_the_retention_rules_decide_after_every_run() =>
        GenInput.Sample(
            input =>
            {
                var forecast = Forecaster.Play(input);
                var policy = input.Charter.Policies["p"];
                for (var ledger = 0; ledger < forecast.Ledgers.Length; ledger++)
                {
                    var key = forecast.Ledgers[ledger];
                    var alive = input.Copies.Where(c => c.Job == key.Job).Select(c => c.Facts).ToList();
                    var expired = new Dictionary<Instant, Instant>();
                    foreach (
                        var run in forecast
                            .Runs.Where(r => forecast.Jobs[r.Job] == key.Job && r.Outcome == PlayedOutcome.Runs)
                            .OrderBy(r => r.End)
                    )
                    {
                        alive.Add(new CopyFacts($"n{run.Start}", run.Start, CopyState.Unchecked));
                        var answer = RetentionRules.Decide(policy.Keep, new RetentionGuards(London, policy.AtLeast), alive, run.End);
                        foreach (var gone in answer.Copies.Where(c => c.Verdict == Verdict.Expire))
                            expired[gone.Copy.Taken] = run.End;
                        alive.RemoveAll(c => expired.ContainsKey(c.Taken));
                    }
                    foreach (var life in forecast.Copies.Where(c => c.Ledger == ledger))
                        Assert.True(
                            life.Expires == (expired.TryGetValue(life.Taken, out var at) ? at : null),
                            $"{key.Job}: the copy of {life.Taken} expires {life.Expires}, the rules say "
                                + $"{(expired.ContainsKey(life.Taken) ? at : null)}"
                        );
                    Assert.Equal(
                        alive.Select(c => c.Taken).Order(),
                        forecast.AliveAt(forecast.End).Where(c => c.Ledger == ledger).Select(c => c.Taken).Order()
                    );
                }
                // What leaves the bin has been there for the store's three days, and leaves at the first reclaiming after that.
                foreach (var life in forecast.Copies.Where(c => c.Expires is not null))
                {
                    var leaves = DueInstants
                        .Between(
                            ScheduleTests.Read("daily at 06:00"),
                            London,
                            input.Charter.Stores["vault"].Bin.After(life.Expires!.Value, London) - Duration.Epsilon,
                            Instant.FromUtc(2030, 1, 1, 0, 0)
                        )
                        .First();
                    Assert.Equal(leaves <= forecast.End ? leaves : null, life.Gone);
                }
            },
            iter: 200
        );

    [Fact]
    public void No_ceiling_is_ever_broken_and_every_due_instant_is_accounted_for() =>
        GenInput.Sample(
            input =>
            {
                var forecast = Forecaster.Play(input);
                var charter = forecast.Input.Charter;
                var atWork = forecast.Runs.Where(r => r.End > r.Start).ToList();
                foreach (var run in atWork)
                {
                    var beside = atWork
                        .Where(r => r.Start <= run.Start && r.End > run.Start)
                        .Select(r => charter.Jobs[forecast.Jobs[r.Job]])
                        .ToList();
                    Assert.True(beside.Count <= charter.RunsAtOnce);
                    Assert.True(beside.Count(j => j.Selection.One == "heron") <= charter.Machines["heron"].RunsAtOnce);
                    Assert.True(beside.Count <= charter.Stores["vault"].RunsAtOnce);
                    Assert.True(beside.Count(j => j.Locks.Contains("dock")) <= 1);
                    Assert.Equal(beside.Count, beside.Distinct().Count());
                    Assert.True(run.Start >= run.Due);
                }
                // A run that waits does so because something is at work at every moment of its wait.
                foreach (var run in atWork.Where(r => r.Start > r.Due && charter.Jobs[forecast.Jobs[r.Job]].After is null))
                    Assert.Contains(atWork, r => r.End == run.Start);
                foreach (
                    var (job, i) in forecast.Jobs.Select((j, i) => (charter.Placed.Named(j).Single(), i)).Where(j => j.Item1.After is null)
                )
                {
                    var due = charter.DueTimesOf(job)!.Between(input.AsOf, forecast.End).ToList();
                    var played = forecast.Runs.Where(r => r.Job == i).Select(r => r.Due).ToList();
                    Assert.Equal(played.Count, played.Distinct().Count());
                    Assert.Empty(played.Except(due));
                    // At the end one may be at work or wait, and one more behind it.
                    Assert.InRange(due.Except(played).Count(), 0, 2);
                }
            },
            iter: 150
        );

    [Fact]
    public void The_same_input_gives_the_same_answer() =>
        GenInput.Sample(
            input =>
            {
                var (a, b) = (Forecaster.Play(input), Forecaster.Play(input));
                return a.Runs.SequenceEqual(b.Runs)
                    && a.Copies.SequenceEqual(b.Copies)
                    && a.Findings.SequenceEqual(b.Findings)
                    && a.Stores.Zip(b.Stores).All(s => s.First.Used.SequenceEqual(s.Second.Used));
            },
            iter: 30
        );

    [Fact]
    public void Bytes_are_what_the_copies_there_come_to_by_the_model() =>
        GenInput.Sample(
            input =>
            {
                input = input with
                {
                    Charter = input.Charter with
                    {
                        Jobs = input
                            .Charter.Jobs.Clear()
                            .Add("j0", input.Charter.Jobs["j0"] with { When = ScheduleTests.Read("daily at 23:00") }),
                        RunsAtOnce = 4,
                    },
                    Jobs = new Dictionary<string, JobAssumptions> { ["j0"] = Takes(20, 1_000_000, 20_000, 300) },
                    Stores = new Dictionary<string, KnownStore> { ["vault"] = new(5_000_000, null) },
                };
                var forecast = Forecaster.Play(input);
                // By the words: a day replaces 2 % less the growth; of a copy's bytes exp(-rate t) are left after t days.
                var rate = -Math.Log(1 - (20_000 - 300) / 1_000_000.0);
                double Alone(Instant t) => 1_000_000 + 300 * (t - AsOf).TotalDays;
                double Union(IEnumerable<CopyLife> lives)
                {
                    var taken = lives.Select(l => l.Taken).Order().ToList();
                    return taken.Count == 0
                        ? 0
                        : Alone(taken[0])
                            + taken
                                .Zip(taken.Skip(1), (a, b) => Math.Max(0, Alone(b) - Alone(a) * Math.Exp(-rate * (b - a).TotalDays)))
                                .Sum();
                }
                var now = Union(forecast.AliveAt(AsOf, inBin: true));
                for (var day = 0; day < 60; day += 7)
                {
                    var end = London.AtStartOfDay(forecast.Dates[day].PlusDays(1)).ToInstant();
                    var expected = 5_000_000 + Union(forecast.AliveAt(end, inBin: true)) - now;
                    Assert.InRange(forecast.Stores[0].Used[day], expected - 2, expected + 2);
                    Assert.InRange(
                        forecast.Stores[0].InBin[day],
                        Union(forecast.AliveAt(end, inBin: true)) - Union(forecast.AliveAt(end)) - 2,
                        Union(forecast.AliveAt(end, inBin: true)) - Union(forecast.AliveAt(end)) + 2
                    );
                }
            },
            iter: 40
        );

    [Fact]
    public void Findings_name_the_thing_the_date_and_the_way_out()
    {
        var charter = Make(
            "newest 2 then 7 daily",
            Job("a-first", "daily at 23:00") with
            {
                RunLimit = new Span(70, SpanUnit.Minutes),
            },
            Job("b-second", "daily at 23:00"),
            Job("by-hand", "daily at 04:00") with
            {
                Prune = PruneTime.ByHand,
                FreshWithin = new Span(20, SpanUnit.Hours),
            },
            Job("over", "daily at 05:00 until 2026-11-20"),
            Job("short", "every 1 hours between 12:00 and 15:00") with
            {
                QuietHours = [QuietHours.Read("16:00 to 22:00").Hours!],
            },
            Job("unknown", "daily at 09:00")
        );
        charter = charter with
        {
            RunsAtOnce = 1,
            Stores = charter.Stores.SetItem(
                "vault",
                charter.Stores["vault"] with
                {
                    Capacity = new ByteSize(14_000_000),
                    Reserve = new ByteSize(1_000_000),
                    ReclaimWhen = null,
                }
            ),
            Policies = charter.Policies.SetItem("p", charter.Policies["p"] with { Promises = [new Span(3, SpanUnit.Weeks)] }),
            MediaGroups = charter.MediaGroups.Add(
                "disks",
                new("disks", ScheduleSentence.ReadDays("daily").Days!, ["D-1", "D-2", "D-3"], new Span(6, SpanUnit.Days))
            ),
            RotationSets = charter.RotationSets.Add(
                "ferry",
                new RotationSetDefinition("ferry", new LocalTime(20, 0), new LocalDate(2026, 11, 23), ["disks"], null, null)
            ),
        };
        var input = new ForecastInput(charter, "own", 2, AsOf, 90)
        {
            Jobs = new Dictionary<string, JobAssumptions>
            {
                ["a-first"] = Takes(60, 5_000_000, 200_000, 20_000),
                ["b-second"] = Takes(10),
                ["by-hand"] = Takes(10),
                ["over"] = Takes(10),
                ["short"] = Takes(80),
            },
            Stores = new Dictionary<string, KnownStore> { ["vault"] = new(6_000_000, null) },
        };
        var forecast = Forecaster.Play(input);
        var told = forecast
            .Findings.Select(f => $"{f.Kind} {f.At?.InZone(London).Date:uuuu-MM-dd} {f.Subject} {f.Message}. {f.Remedy}")
            .ToList();
        void Told(string beginning, params string[] parts) =>
            Assert.True(
                told.Any(t => t.StartsWith(beginning, StringComparison.Ordinal) && parts.All(p => t.Contains(p, StringComparison.Ordinal))),
                $"'{beginning}' with '{string.Join("', '", parts)}' is not among:\n{string.Join('\n', told)}"
            );
        Told("StoreFull 20", "store vault", "14 MB with 1 MB in reserve", "more, keep less");
        Told("PromiseBroken 2026-12-1", "job a-first", "no copy of 3 weeks ago in vault");
        Told("MediaShort 2026-11-26 rotation set ferry", "group disks", "D-1 is free too late", "it has 3; 7 would be enough");
        Told("NoFit 20", "job a-first", "no longer fits its run limit of 70 minutes");
        Told("NoFit 2026-11-23 job short", "due again before it has ended");
        Told("NoFit 2026-11-23 job short", "runs into the quiet hours 16:00 to 22:00");
        Told("StartsLate 2026-11-23 job b-second", "start limit of 30 minutes", "the ceiling of 1 at once", "spread");
        Told("NeverDue  job over", "is never due again");
        Told("NeverPruned  job by-hand", "by hand only", "after-success");
        Told("NeverReclaimed 20", "store vault", "frees nothing by itself");
        Told("GoesStale 20", "job by-hand", "promised fresh within 20 hours");
        Told("Unknown  job unknown", "no history and no expectation");
        Assert.Empty(
            Forecaster
                .Play(
                    input with
                    {
                        Charter = Make("newest 2 then 7 daily", Job("a", "daily at 23:00")),
                        Jobs = new Dictionary<string, JobAssumptions> { ["a"] = Takes(5, 100, 1) },
                    }
                )
                .Findings
        );
    }

    [Fact]
    public void After_an_outage_one_run_makes_up_for_all_that_was_missed_and_a_storm_is_told()
    {
        var jobs = Enumerable.Range(0, 12).Select(i => Job($"j{i:00}", $"every 4 hours")).ToArray();
        var charter = Make("newest 3", jobs) with { RunsAtOnce = 1 };
        var outage = new Outage(AsOf + Duration.FromHours(1), AsOf + Duration.FromHours(13));
        var input = new ForecastInput(charter, "own", 2, AsOf, 3) { Jobs = jobs.ToDictionary(j => j.Name, _ => Takes(15, 10, 1)) };
        var forecast = Forecaster.Play(input with { Outage = outage });
        foreach (var i in Enumerable.Range(0, 12))
        {
            var runs = forecast.Runs.Where(r => r.Job == i).ToList();
            // 16:00, 20:00, 00:00; the return is at 01:00, and 04:00 is more than two hours away.
            Assert.Equal(3, runs.Count(r => r.Outcome == PlayedOutcome.Missed));
            Assert.Single(runs, r => r.Outcome == PlayedOutcome.CatchUp);
        }
        Assert.True(forecast.Runs.First(r => r.Outcome == PlayedOutcome.CatchUp).Start == outage.To + Duration.FromMinutes(10));
        Assert.DoesNotContain(forecast.Runs, r => r.Start > outage.From && r.Start < outage.To && r.Outcome == PlayedOutcome.Runs);
        var near = Forecaster.Play(input with { Outage = outage with { To = AsOf + Duration.FromHours(15) } });
        Assert.DoesNotContain(near.Runs, r => r.Outcome == PlayedOutcome.CatchUp);
    }

    [Fact]
    public void A_job_that_goes_from_one_machine_to_two_is_compared_with_itself()
    {
        var job = Job("a", "daily at 23:00");
        var one = Make("newest 5", job) with { Own = "own" };
        var two = one with
        {
            Machines = one
                .Machines.Add("own", new MachineDefinition("own", null, null))
                .Add("tern", new MachineDefinition("tern", null, null)),
            Jobs = one.Jobs.SetItem("a", job with { Selection = new MachineSelection(SelectionKind.Named) { Names = ["own", "tern"] } }),
        };
        var compared = Comparison.Of(
            Forecaster.Play(Input(one, "a")),
            Forecaster.Play(Input(two, "a on own")),
            [AsOf + Duration.FromDays(9)]
        );
        var place = Assert.Single(compared.Dates[0].Places);
        Assert.Equal(("a on tern", 0, 5), (place.Job, place.Before, place.After));
        Assert.Empty(compared.AtOnce);
        // The other way round it is the second machine that has copies no more, and what is there falls under a shorter policy.
        var shorter = one with { Policies = Make("newest 2", job).Policies };
        var back = Comparison.Of(
            Forecaster.Play(Input(two, "a on own")),
            Forecaster.Play(Input(shorter, "a")),
            [AsOf + Duration.FromDays(9)]
        );
        Assert.Equal(["a on own", "a on tern"], back.Dates[0].Places.Select(p => p.Job));
        Assert.Equal([("a on own", "k3"), ("a on own", "k4")], back.AtOnce.Select(c => (c.Job, c.CopyId)).Order());

        static ForecastInput Input(Charter charter, string words) =>
            new(charter.Flat(), "own", 2, AsOf, 20)
            {
                PrunesByHandToo = true,
                Copies =
                [
                    .. Enumerable
                        .Range(1, 4)
                        .Select(i => new KnownCopy(
                            words,
                            "vault",
                            new CopyFacts($"k{i}", AsOf - Duration.FromDays(i) - Duration.FromHours(13), CopyState.Sound)
                        )),
                ],
            };
    }

    [Fact]
    public void A_comparison_says_what_exists_under_one_charter_only_and_what_would_go_at_once()
    {
        var copies = Enumerable
            .Range(1, 20)
            .Select(i => new KnownCopy(
                "a",
                "vault",
                new CopyFacts($"k{i:00}", AsOf - Duration.FromDays(i) - Duration.FromHours(13), CopyState.Sound)
            ))
            .ToList();
        var before = new ForecastInput(Make("newest 2 and 14 daily", Job("a", "daily at 23:00")), "own", 2, AsOf, 90)
        {
            Jobs = new Dictionary<string, JobAssumptions> { ["a"] = Takes(5, 1_000_000, 50_000) },
            Copies = copies,
            PrunesByHandToo = true,
            Stores = new Dictionary<string, KnownStore> { ["vault"] = new(9_000_000, null) },
        };
        var after = before with { Charter = Make("newest 2 and 7 daily and 4 weekly", Job("a", "daily at 23:00")) };
        var compared = Comparison.Of(
            Forecaster.Play(before),
            Forecaster.Play(after),
            [AsOf + Duration.FromDays(7), AsOf + Duration.FromDays(60)]
        );
        var expected = RetentionRules
            .Decide(
                RetentionTests.Read("newest 2 and 7 daily and 4 weekly"),
                new RetentionGuards(London),
                copies.Select(c => c.Facts),
                AsOf
            )
            .Copies.Where(c => c.Verdict == Verdict.Expire)
            .Select(c => c.Copy.Id)
            .Except(
                RetentionRules
                    .Decide(RetentionTests.Read("newest 2 and 14 daily"), new RetentionGuards(London), copies.Select(c => c.Facts), AsOf)
                    .Copies.Where(c => c.Verdict == Verdict.Expire)
                    .Select(c => c.Copy.Id)
            );
        Assert.Equal(expected.Order(), compared.AtOnce.Select(c => c.CopyId).Order());
        Assert.NotEmpty(compared.AtOnce);
        var later = compared.Dates[1];
        var place = Assert.Single(later.Places);
        Assert.Equal((14, 9), (place.Before, place.After));
        Assert.Equal((6, 1), (place.OnlyBefore.Length, place.OnlyAfter.Length));
        Assert.NotEqual(later.Stores[0].Before, later.Stores[0].After);
    }

    [Fact]
    public void Assumptions_are_medians_of_the_last_seven_and_growth_is_not_moved_by_odd_runs()
    {
        var past = Enumerable
            .Range(0, 20)
            .Select(i => new PastRun(
                AsOf - Duration.FromDays(20 - i),
                Duration.FromMinutes(i == 18 ? 600 : 5),
                1_000_000 + i * 1000 + (i == 12 ? 900_000 : 0),
                i == 0 ? 1_000_000 : 40_000,
                i == 0 ? 500_000 : 20_000
            ))
            .ToList();
        var assumed = Assume.From(Job("a", "daily at 23:00"), past);
        Assert.Equal(AssumedFrom.History, assumed.From);
        Assert.Equal(
            (508_000, 20_000, 500, 5),
            (assumed.WholeBytes, assumed.ChangeBytes, assumed.GrowthPerDay, (int)assumed.Takes.TotalMinutes)
        );
        Assert.Equal(AssumedFrom.Unknown, Assume.From(Job("a", "daily at 23:00"), []).From);
        var stated = Assume.From(
            Job("a", "daily at 23:00") with
            {
                ExpectSize = new ByteSize(100),
                ExpectTime = new Span(2, SpanUnit.Hours),
            },
            []
        );
        Assert.Equal((100, 2), (stated.WholeBytes, stated.Takes.TotalHours));
    }
}
