using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Retention;
using IronKeep.Core.Schedules;
using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Tests;

/// <summary>What a forecast makes of what is there: copies that do not count, less room than was declared, what must stay free.</summary>
public sealed class ForecastFactsTests
{
    private static readonly Instant AsOf = Instant.FromUtc(2026, 11, 23, 12, 0);

    private static ForecastInput Input(StoreDefinition store, JobAssumptions takes, int days = 30)
    {
        var job = new JobDefinition("j", ["/srv/data"], ["vault"], "p")
        {
            When = ScheduleTests.Read("daily at 23:00"),
            Prune = PruneTime.AfterSuccess,
        };
        var charter = Charter.Empty with
        {
            Zone = DateTimeZone.Utc,
            Stores = Charter.Empty.Stores.Add("vault", store),
            Policies = Charter.Empty.Policies.Add("p", new PolicyDefinition("p", RetentionTests.Read("newest 3"), 1, null)),
            Jobs = Charter.Empty.Jobs.Add("j", job),
        };
        return new ForecastInput(charter, "own", 2, AsOf, days) { Jobs = new Dictionary<string, JobAssumptions> { ["j"] = takes } };
    }

    private static StoreDefinition Vault(long? capacity = null, long? reserve = null) =>
        new(
            "vault",
            "/srv/vault",
            capacity is { } c ? new ByteSize(c) : null,
            reserve is { } r ? new ByteSize(r) : null,
            new Span(1, SpanUnit.Days),
            ReclaimWhen: ScheduleTests.Read("daily at 06:00")
        );

    private static JobAssumptions Takes(long whole, long change) => new(whole, change, 0, Duration.FromMinutes(5), AssumedFrom.History);

    [Theory]
    [InlineData(CopyState.Sound, 2)]
    [InlineData(CopyState.Unchecked, 2)]
    [InlineData(CopyState.Unsound, 3)]
    [InlineData(CopyState.Partial, 3)]
    public void A_copy_that_does_not_count_takes_no_other_copys_place(CopyState newest, int oldestInDays)
    {
        var input = Input(Vault(), Takes(100, 10), 2) with
        {
            Copies = [Known(1, newest), Known(2, CopyState.Sound), Known(3, CopyState.Sound), Known(4, CopyState.Sound)],
        };
        // After the first run three count: its own and the two newest that do.
        var kept = Forecaster.Play(input).AliveAt(AsOf + Duration.FromHours(12)).Where(c => c.KnownId is not null && c.KnownId != "1");
        Assert.Equal($"{oldestInDays}", kept.Select(c => c.KnownId).Max());

        static KnownCopy Known(int days, CopyState state) =>
            new("j", "vault", new CopyFacts($"{days}", AsOf - Duration.FromDays(days), state));
    }

    [Fact]
    public void The_room_is_what_is_really_free_and_the_reserve_is_no_part_of_it()
    {
        // 1000 are declared, and the disk has 150: 100 used, 50 free. Kept are three copies of 20 with 5 new each, and what the bin keeps
        // for a day.
        var input = Input(Vault(1000, 20), Takes(20, 5)) with
        {
            Stores = new Dictionary<string, KnownStore> { ["vault"] = new(100, 50) },
        };
        var forecast = Forecaster.Play(input);
        var space = Assert.Single(forecast.Stores);
        Assert.Equal((150L, 20L), (space.Room, space.Reserve));
        var most = space.Used.Max();
        Assert.InRange(most, 131, 150);
        // It fits the room, and not with what must stay free.
        var full = Assert.Single(forecast.Findings, f => f.Kind == FindingKind.StoreFull);
        Assert.Contains("150 B with 20 B in reserve", full.Message);
        Assert.Contains($"give it {most + 20 - 150} B more", full.Remedy);
        Assert.DoesNotContain(
            Forecaster.Play(input with { Stores = new Dictionary<string, KnownStore> { ["vault"] = new(100, 500) } }).Findings,
            f => f.Kind == FindingKind.StoreFull
        );
        Assert.DoesNotContain(Forecaster.Play(Input(Vault(1000), Takes(20, 5)) with { Stores = input.Stores }).Findings, f =>
            f.Kind == FindingKind.StoreFull
        );
    }

    [Fact]
    public void A_closed_span_ends_with_its_last_day()
    {
        var (days, problems) = ClosedDays.Read(["2026-12-24 to 2027-01-02", "may 1"]);
        Assert.Empty(problems);
        Assert.Equal(
            [false, true, true, false],
            new[] { new LocalDate(2026, 12, 23), new(2026, 12, 24), new(2027, 1, 2), new(2027, 1, 3) }.Select(days.IsClosed)
        );
        Assert.True(days.IsClosed(new LocalDate(2031, 5, 1)));
    }
}
