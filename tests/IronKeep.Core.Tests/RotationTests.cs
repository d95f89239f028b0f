using CsCheck;
using IronKeep.Core.Quantities;
using IronKeep.Core.Rotation;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Tests;

public sealed class RotationTests
{
    private static readonly LocalDate First = new(2026, 11, 23);
    private static readonly DateTimeZone London = DateTimeZoneProviders.Tzdb["Europe/London"];

    private static MediaGroup Group(
        string name,
        string serves,
        int media,
        string protectedFor,
        string fill = "12 hours",
        string run = "3 hours"
    ) =>
        new(
            name,
            ScheduleSentence.ReadDays(serves).Days!,
            [.. Enumerable.Range(1, media).Select(i => $"{name}-{i}")],
            protectedFor == "always" ? null : Span(protectedFor)
        )
        {
            FillWindow = Span(fill),
            RunLength = Span(run),
        };

    private static Span Span(string text) =>
        Quantities.Span.TryParse(text, out var span, out var problem) ? span : throw new InvalidOperationException(problem);

    private static RotationSet Set(params MediaGroup[] groups) => new(new LocalTime(20, 0), [.. groups]);

    [Fact]
    public void The_first_group_that_serves_a_night_takes_it_and_the_media_take_turns()
    {
        var set = Set(
            Group("month", "last fri of month", 2, "1 months"),
            Group("fri", "fri", 3, "20 days"),
            Group("days", "mon-thu", 4, "6 days")
        );
        var nights = RotationRules.Play(set, London, First, 14);
        Assert.Equal(
            "days-1 days-2 days-3 days-4 month-1 - - days-1 days-2 days-3 days-4 fri-1 - -".Split(' '),
            nights.Select(n => n.Medium ?? "-")
        );
        // Begun at 20:00, three hours long, protected for six days by the wall clock.
        Assert.Equal("2026-11-29T23:00:00Z", nights[0].ProtectedUntil.ToString());
        Assert.Equal("days-1 is free longest, since 2026-11-29 23:00", nights[7].Why);
        Assert.Null(nights[5].Group);
    }

    [Fact]
    public void A_shortage_names_the_medium_that_is_free_first_and_how_many_would_do()
    {
        var set = Set(Group("days", "daily", 6, "6 days"));
        var nights = RotationRules.Play(set, London, First, 10);
        var shortNight = nights.First(n => n.Shortage is not null);
        Assert.Equal(new LocalDate(2026, 11, 29), shortNight.Date);
        Assert.Equal(("days-1", "2026-11-29T23:00:00Z"), (shortNight.Shortage!.FirstFree, shortNight.Shortage.At.ToString()));
        // (3 h + 6 d) / 1 d, rounded up.
        Assert.Equal(7, EnoughMedia.For(set, set.Groups[0], London, First).Count);
        // The night after, the medium is free again.
        Assert.Equal("days-1", nights[7].Medium);
    }

    [Fact]
    public void Within_the_fill_window_a_run_appends_and_each_append_moves_the_protection()
    {
        var set = Set(Group("week", "daily", 2, "7 days", fill: "7 days"));
        var nights = RotationRules.Play(set, London, First, 15);
        Assert.All(nights.Take(7), n => Assert.Equal("week-1", n.Medium));
        Assert.True(nights[1].Appends);
        Assert.Equal("week-2", nights[7].Medium);
        Assert.Equal(nights[6].Start + Duration.FromHours(3) + Duration.FromDays(7), nights[6].ProtectedUntil);
        // Its last write ended in night 6, so it is free from night 13 on, in time for night 14.
        Assert.Equal(("week-1", false), (nights[14].Medium, nights[14].Appends));
        Assert.Equal(2, EnoughMedia.For(set, set.Groups[0], London, First).Count);
    }

    [Fact]
    public void What_is_held_or_not_at_hand_is_passed_over_and_named()
    {
        var set = Set(Group("days", "daily", 2, "always"));
        var night = RotationRules.Choose(
            set.Groups[0],
            new Dictionary<string, MediumFacts>
            {
                ["days-1"] = new("days-1", Unusable: "is held by mira"),
                ["days-2"] = new("days-2", Instant.MinValue, Instant.FromUtc(2026, 1, 1, 0, 0)),
            },
            London,
            First,
            Instant.FromUtc(2026, 11, 23, 20, 0)
        );
        Assert.Equal(new Shortage(null, null), night.Shortage);
        Assert.Contains("every one is protected always; days-1 is held by mira", night.Why);
        Assert.Null(EnoughMedia.For(set, set.Groups[0], London, First).Count);
    }

    private static readonly Gen<MediaGroup> GenGroup = Gen.Select(
            Pick.Of(
                "daily",
                "mon-thu",
                "fri",
                "weekends",
                "last fri of month",
                "day 1,15 of month",
                "every 2 weeks on sat from 2026-01-03",
                "every 3 days from 2026-01-01"
            ),
            Gen.Int[1, 9],
            Pick.Of("1 days", "6 days", "40 hours", "3 weeks", "1 months", "always"),
            Pick.Of("12 hours", "30 hours", "5 days"),
            Pick.Of("30 minutes", "3 hours", "26 hours")
        )
        .Select((serves, media, protection, fill, run) => Group("g", serves, media, protection, fill, run));

    [Fact]
    public void No_protected_medium_is_ever_overwritten_whatever_the_order_of_runs() =>
        Gen.Select(GenGroup, Gen.Int[0, 40 * 24].Array[1, 80], Gen.Bool.Array[9])
            .Sample(
                (group, hours, barred) =>
                {
                    var known = group
                        .Media.Where((_, i) => barred[i % 9] && i % 2 == 0)
                        .ToDictionary(m => m, m => new MediumFacts(m, Unusable: "is not at hand"));
                    var until = new Dictionary<string, Instant?>();
                    foreach (var hour in hours.Order())
                    {
                        var start = Instant.FromUtc(2027, 3, 10, 20, 0) + Duration.FromHours(hour);
                        var night = RotationRules.Choose(group, known, London, First, start);
                        var usable = group.Media.Where(m => known.GetValueOrDefault(m)?.Unusable is null).ToList();
                        if (night.Medium is not { } medium)
                        {
                            // A shortage is true: every usable medium is written and protected at this moment.
                            Assert.All(usable, m => Assert.True(until.ContainsKey(m) && (until[m] is null || until[m] > start)));
                            Assert.Equal(usable.Where(m => until[m] is not null).Select(m => until[m]).Min(), night.Shortage!.At);
                            continue;
                        }
                        Assert.Contains(medium, usable);
                        var before = known.GetValueOrDefault(medium);
                        if (night.Appends)
                            Assert.True(start < group.FillWindow.After(before!.FirstWrite!.Value, London));
                        else
                            Assert.True(
                                !until.TryGetValue(medium, out var free) || free <= start,
                                $"{medium} was protected until {free} and begun anew at {start}"
                            );
                        var end = group.RunLength.After(start, London);
                        known[medium] = new MediumFacts(medium, night.Appends ? before!.FirstWrite : start, end);
                        until[medium] = RotationRules.ProtectedUntil(group, end, London);
                        Assert.Equal(until[medium], night.ProtectedUntil);
                    }
                },
                iter: 2000
            );

    [Fact]
    public void The_number_that_is_enough_is_enough_and_one_less_is_not() =>
        Gen.Select(GenGroup.Where(g => g.ProtectedFor is not null), Gen.Int[0, 400])
            .Sample(
                (group, day) =>
                {
                    var set = Set(group);
                    var first = First.PlusDays(day);
                    var count = EnoughMedia.For(set, group, London, first).Count!.Value;
                    bool IsShort(int media) =>
                        RotationRules
                            .Play(Set(group with { Media = [.. Enumerable.Range(0, media).Select(i => $"{i:000}")] }), London, first, 366)
                            .Any(n => n.Shortage is not null);
                    Assert.False(IsShort(count), $"{count} media are short");
                    if (count > 1)
                        Assert.True(IsShort(count - 1), $"{count - 1} media would do");
                },
                iter: 60
            );
}
