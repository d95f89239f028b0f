using IronKeep.Core.Reports;
using IronKeep.Yaml;
using NodaTime;

namespace IronKeep.Core.Tests;

/// <summary>What a report looks back on, over which jobs, and how long promises were kept.</summary>
public sealed class ReportTests
{
    private static readonly Instant From = Instant.FromUtc(2026, 11, 23, 0, 0);
    private static readonly Instant To = From + Duration.FromDays(7);

    private static (double Kept, double Broken) Of(double promise, params (double Taken, double? Gone)[][] stores)
    {
        var (kept, broken) = FreshHours.Of(
            Duration.FromHours(promise),
            stores.Select(s =>
                (IReadOnlyCollection<(Instant, Instant?)>)
                    [
                        .. s.Select(c =>
                            (From + Duration.FromHours(c.Taken), c.Gone is { } gone ? From + Duration.FromHours(gone) : (Instant?)null)
                        ),
                    ]
            ),
            From,
            To
        );
        return (kept.TotalHours, broken.TotalHours);
    }

    [Fact]
    public void Hours_are_kept_while_a_copy_is_young_enough_in_every_store()
    {
        Assert.Equal((0, 168), Of(24, Array.Empty<(double, double?)>()));
        Assert.Equal((24, 144), Of(24, [(0, null)]));
        // One from before counts for what is left of it, one from after the end for nothing.
        Assert.Equal((4, 164), Of(24, [(-20, null), (168, null), (200, null)]));
        Assert.Equal((0, 168), Of(24, [(-24, null)]));
        // Back to back, overlapping, and with a gap; the order does not matter.
        Assert.Equal((48, 120), Of(24, [(24, null), (0, null)]));
        Assert.Equal((30, 138), Of(24, [(0, null), (6, null)]));
        Assert.Equal((48, 120), Of(24, [(0, null), (30, null)]));
        Assert.Equal((168, 0), Of(24, [.. Enumerable.Range(-1, 9).Select(d => (d * 24.0, (double?)null))]));
        // One that went early keeps nothing from then on; a younger one beside it does.
        Assert.Equal((10, 158), Of(24, [(0, 10)]));
        Assert.Equal((24, 144), Of(24, [(0, 10), (0, null)]));
        // Broken in any store is broken, and counts once.
        Assert.Equal((24, 144), Of(24, [(0, null)], [(0, null)]));
        Assert.Equal((12, 156), Of(24, [(0, null)], [(12, null)]));
        Assert.Equal((0, 168), Of(24, [(0, null)], []));
        Assert.Equal(
            (Duration.Zero, Duration.Zero),
            FreshHours.Of(
                Duration.FromHours(1),
                [
                    [],
                ],
                To,
                From
            )
        );
    }

    /// <summary>Against a referee that asks minute by minute.</summary>
    [Fact]
    public void Hours_are_those_that_a_slow_count_finds()
    {
        var random = new Random(15);
        for (var round = 0; round < 60; round++)
        {
            var end = From + Duration.FromHours(random.Next(1, 48));
            var promise = Duration.FromMinutes(random.Next(10, 900));
            var stores = Enumerable
                .Range(0, random.Next(1, 3))
                .Select(_ =>
                    (IReadOnlyCollection<(Instant Taken, Instant? Gone)>)
                        Enumerable
                            .Range(0, random.Next(0, 7))
                            .Select(_ => From + Duration.FromMinutes(random.Next(-1000, 3200)))
                            .Select(t => (t, random.Next(4) == 0 ? t + Duration.FromMinutes(random.Next(1, 600)) : (Instant?)null))
                            .ToList()
                )
                .ToList();
            var broken = 0;
            for (var at = From; at < end; at += Duration.FromMinutes(1))
                if (!stores.All(s => s.Any(c => c.Taken <= at && at < c.Taken + promise && !(c.Gone <= at))))
                    broken++;
            Assert.Equal(Duration.FromMinutes(broken), FreshHours.Of(promise, stores, From, end).Broken);
        }
    }

    [Theory]
    [InlineData(ReportPeriod.Week, "2026-11-23T00:00:00Z", "2026-11-16", "2026-11-23")]
    [InlineData(ReportPeriod.Week, "2026-11-22T23:59:59Z", "2026-11-09", "2026-11-16")]
    [InlineData(ReportPeriod.Week, "2026-11-29T12:00:00Z", "2026-11-16", "2026-11-23")]
    [InlineData(ReportPeriod.Month, "2026-12-01T00:00:00Z", "2026-11-01", "2026-12-01")]
    [InlineData(ReportPeriod.Month, "2026-11-30T23:59:59Z", "2026-10-01", "2026-11-01")]
    [InlineData(ReportPeriod.Month, "2027-01-01T00:00:00Z", "2026-12-01", "2027-01-01")]
    // In summer London's Monday begins at eleven on Sunday evening.
    [InlineData(ReportPeriod.Week, "2026-07-05T23:00:00Z", "2026-06-29", "2026-07-06")]
    public void A_report_looks_back_on_the_last_whole_period(ReportPeriod period, string at, string from, string to)
    {
        var instant = NodaTime.Text.InstantPattern.ExtendedIso.Parse(at).Value;
        var found = ReportDefinition.LastOver(period, instant, DateTimeZoneProviders.Tzdb["Europe/London"]);
        Assert.Equal((from, to), (found.From.ToString("uuuu-MM-dd", null), found.To.ToString("uuuu-MM-dd", null)));
    }

    private const string Head = """
        charter: 1
        zone: UTC
        machines:
          heron: { site: lighthouse, owner: observatory, tags: main }
          knot: { site: mainland, owner: ringing-group }
        stores: { cellar: { folder: /srv/cellar } }
        policies: { few: { keep: newest 2 } }
        jobs:
          register: { takes: /srv/register, into: cellar, policy: few, on: heron, tags: birds }
          counts: { takes: /srv/counts, into: cellar, policy: few, on: knot, tags: birds }

        """;

    [Theory]
    [InlineData("", "all jobs", "counts register")]
    [InlineData("sites: mainland", "site mainland", "counts")]
    [InlineData("owners: [observatory, ringing-group]", "owner observatory or ringing-group", "counts register")]
    [InlineData("tags: birds, sites: lighthouse", "site lighthouse, tag birds", "register")]
    [InlineData("tags: main", "tag main", "register")]
    [InlineData("machines: knot", "machine knot", "counts")]
    [InlineData("jobs: counts, sites: lighthouse", "site lighthouse, job counts", "")]
    public void A_report_is_of_the_jobs_that_all_its_conditions_apply_to(string conditions, string words, string jobs)
    {
        var reading = CharterYaml.Read($"{Head}reports:\n  one: {{ every: week{(conditions.Length > 0 ? ", " : "")}{conditions} }}\n");
        Assert.Empty(reading.Mistakes);
        var charter = reading.Charter!;
        var report = charter.Reports["one"];
        Assert.Equal(words, report.Words);
        Assert.Equal(
            jobs,
            string.Join(
                ' ',
                charter.Placed.All.Where(j => report.Takes(j, charter.Machines[j.Machine], j.Machine)).Select(j => j.Name).Order()
            )
        );
    }

    [Theory]
    [InlineData("reports:\n  one: { tells: nobody }", "'every' is missing")]
    [InlineData("reports:\n  one: { every: year }", "'year' is not known")]
    [InlineData("reports:\n  one: { every: week, when: mon at 06:00 until 2027-01-01 }", "comes to an end")]
    [InlineData("reports:\n  one: { every: week, sites: 'Main Land' }", "cannot be a site")]
    [InlineData("reports:\n  one: { every: week, tells: nobody }", "nobody")]
    public void A_report_that_cannot_be_made_is_a_mistake(string text, string says)
    {
        Assert.Contains(CharterYaml.Read(Head + text).Mistakes, m => m.Message.Contains(says, StringComparison.Ordinal));
    }
}
