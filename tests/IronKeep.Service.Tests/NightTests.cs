using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Duty;
using NodaTime;

namespace IronKeep.Service.Tests;

public sealed class NightTests
{
    private static readonly DateTimeZone London = DateTimeZoneProviders.Tzdb["Europe/London"];

    [Theory]
    [InlineData(2026, 11, 23, 8, 24)]
    [InlineData(2026, 11, 23, 14, 24)]
    // The nights in which the clock is changed: spring has 23 hours, autumn 25.
    [InlineData(2027, 3, 28, 8, 23)]
    [InlineData(2027, 10, 31, 8, 25)]
    public void The_last_night_runs_from_noon_to_noon_of_the_wall_clock(int year, int month, int day, int hour, int hours)
    {
        var now = new LocalDateTime(year, month, day, hour, 0).InZoneStrictly(London).ToInstant();
        var (from, to) = NightBoard.LastNight(London, now);
        Assert.Equal(Duration.FromHours(hours), to - from);
        Assert.Equal(new LocalDateTime(year, month, day, 12, 0), to.InZone(London).LocalDateTime);
        // Every instant of it belongs to the night that is named by the date on which it begins, and no other does.
        var night = new LocalDate(year, month, day).PlusDays(-1);
        for (var at = from - Duration.FromHours(2); at < to + Duration.FromHours(2); at += Duration.FromMinutes(20))
            Assert.Equal(at >= from && at < to, NightBoard.NightOf(at, London) == night);
    }

    [Fact]
    public async Task A_cell_shows_the_worst_of_its_night_and_says_of_how_many()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "1");
        await bench.ApplyAsync(bench.Charter("every 6 hours"));
        await bench.TickAsync("2026-11-23T12:00:00Z");
        Directory.Move(bench.Source, bench.Source + "-away");
        await bench.TickAsync("2026-11-23T18:00:00Z");
        Directory.Move(bench.Source + "-away", bench.Source);
        await bench.TickAsync("2026-11-24T00:00:00Z");
        await bench.TickAsync("2026-11-24T06:00:00Z");
        await bench.TickAsync("2026-11-24T12:00:00Z");
        var row = Assert.Single((await bench.GetAsync<DutyAnswer>("duty")).Board);
        Assert.Equal(("2026-11-23", "failed", 4), (row.Nights[^2].Date, row.Nights[^2].Outcome.Word(), row.Nights[^2].Planned));
        Assert.Equal(("2026-11-24", "ok", 1), (row.Nights[^1].Date, row.Nights[^1].Outcome.Word(), row.Nights[^1].Planned));
        Assert.Null(row.Nights[^3].Outcome);
        var failed = await bench.GetAsync<RunAnswer>($"runs/{row.Nights[^2].RunId}");
        Assert.Equal("source-unreadable", failed.Failure.Word());
    }
}
