using IronKeep.Core.Rotation;
using NodaTime;

namespace IronKeep.Core.Tests;

/// <summary>Ready schemes are what somebody trusts without having reckoned them, so every size of each is played for years.</summary>
public sealed class ReadySchemeTests
{
    private static readonly DateTimeZone London = DateTimeZoneProviders.Tzdb["Europe/London"];

    private static SchemeWish Wish(LocalDate first, params (string, int)[] numbers) =>
        new("ferry", new LocalTime(20, 0), first, numbers.ToDictionary(n => n.Item1, n => n.Item2));

    /// <summary>Each number alone at its least, a few between, and its most, beside the usual others.</summary>
    public static TheoryData<string, string, int> Sizes()
    {
        var data = new TheoryData<string, string, int>();
        foreach (var scheme in ReadyScheme.All)
        foreach (var n in scheme.Numbers)
        foreach (var size in Enumerable.Range(n.Least, Math.Min(14, n.Most - n.Least + 1)).Append(n.Most).Distinct())
            data.Add(scheme.Name, n.Name, size);
        return data;
    }

    [Theory]
    [MemberData(nameof(Sizes))]
    public void No_night_is_ever_short_and_no_medium_is_spare(string name, string number, int size)
    {
        var scheme = ReadyScheme.Find(name)!;
        // Begun on any day of the week, and over both changes of the clock.
        foreach (var first in Enumerable.Range(0, 7).Select(i => new LocalDate(2026, 12, 1).PlusDays(41 * i)))
        {
            var play = scheme.Play(Wish(first, (number, size)), London, 366 * 8);
            var shortNight = play.Nights.FirstOrDefault(n => n.Shortage is not null);
            Assert.True(shortNight is null, $"{shortNight?.Date}: {shortNight?.Why}");
            Assert.Equal(play.Media, play.Set.Groups.SelectMany(g => g.Media).Distinct().Count());
        }
        // What a group has is what it needs: one less would leave some night short.
        var set = scheme.Make(Wish(new LocalDate(2026, 12, 1), (number, size)));
        foreach (var group in set.Groups.Where(g => g.Media.Length > 1))
        {
            var fewer = set with { Groups = [.. set.Groups.Select(g => g == group ? g with { Media = g.Media[1..] } : g)] };
            Assert.Contains(RotationRules.Play(fewer, London, new LocalDate(2026, 12, 1), 366 * 28), n =>
                n.Group == group.Name && n.Shortage is not null
            );
        }
    }

    /// <summary>Reckoned by hand from what each scheme is.</summary>
    [Theory]
    [InlineData("round-robin", "media", 7, 7, 6, 6)]
    [InlineData("round-robin", "media", 2, 2, 1, 1)]
    // Level 1 holds a night of the last two, level 5 one that is at least 16 nights old when it is taken anew.
    [InlineData("tower-of-hanoi", "media", 5, 5, 8, 4)]
    [InlineData("tower-of-hanoi", "media", 3, 3, 2, 2)]
    // When one disk is begun anew, the other holds the seven nights before.
    [InlineData("two-disks", "nights", 7, 2, 7, 7)]
    [InlineData("two-disks", "nights", 1, 2, 1, 1)]
    public void What_a_scheme_reaches_is_what_can_be_counted_on(string name, string number, int size, int media, int reach, int points)
    {
        var play = ReadyScheme.Find(name)!.Play(Wish(new LocalDate(2026, 12, 1), (number, size)), London, 60);
        Assert.Equal((media, reach, points), (play.Media, play.ReachDays, play.Points));
    }

    [Fact]
    public void Weekday_to_yearly_reaches_back_over_its_years()
    {
        var play = ReadyScheme.Find("weekday-to-yearly")!.Play(Wish(new LocalDate(2026, 12, 1)), London, 400);
        // Three yearly media: the oldest of those left, when one is begun anew, is of the December two years before.
        Assert.InRange(play.ReachDays, 2 * 365 - 7, 2 * 365 + 7);
        Assert.Equal(4 + 4 + 12 + 3, play.Media);
        Assert.Equal(play.Media - 1, play.Points);
        var nights = play.Nights.ToDictionary(n => n.Date);
        Assert.Equal("ferry-years", nights[new LocalDate(2026, 12, 25)].Group);
        Assert.Equal("ferry-months", nights[new LocalDate(2027, 1, 29)].Group);
        Assert.Equal("ferry-weeks", nights[new LocalDate(2027, 1, 22)].Group);
        Assert.Equal("ferry-nights", nights[new LocalDate(2027, 1, 21)].Group);
        Assert.Null(nights[new LocalDate(2027, 1, 23)].Group);
        // Labels sort as they are counted.
        Assert.Equal("ferry-month-01", nights[new LocalDate(2027, 1, 29)].Medium);
    }

    [Fact]
    public void The_tower_doubles_from_medium_to_medium()
    {
        var play = ReadyScheme.Find("tower-of-hanoi")!.Play(Wish(new LocalDate(2026, 12, 1)), London, 16);
        Assert.Equal("1213121412131215", string.Concat(play.Nights.Select(n => n.Medium![^1])));
    }

    [Fact]
    public void Numbers_that_make_no_sense_are_refused_by_name()
    {
        var scheme = ReadyScheme.Find("two-disks")!;
        Assert.Equal(
            ["two-disks has no number 'moons'; it has nights", "nights 0 is out of range; use 1 to 92"],
            scheme.Mistakes(Wish(new LocalDate(2026, 12, 1), ("moons", 3), ("nights", 0)))
        );
        Assert.Empty(scheme.Mistakes(Wish(new LocalDate(2026, 12, 1))));
    }
}
