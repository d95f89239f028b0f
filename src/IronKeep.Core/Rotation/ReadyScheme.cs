using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Rotation;

/// <summary>A number by which a ready scheme is made larger or smaller, with the range that makes sense.</summary>
public sealed record SchemeNumber(string Name, string Words, int Usual, int Least, int Most);

/// <summary>What somebody wants of a ready scheme: the name of the set to come, its first night, and the numbers that differ.</summary>
public sealed record SchemeWish(string Set, LocalTime Start, LocalDate First, IReadOnlyDictionary<string, int> Numbers);

/// <summary>
/// A discipline of rotation media that the trade knows, ready to start from: its groups with as many media as it needs, each protected as
/// long as its turn allows. Source: docs/semantics.md, section 5 (Rotation sets).
/// </summary>
public sealed class ReadyScheme
{
    private readonly Func<SchemeWish, Func<string, int>, IEnumerable<MediaGroup>> groups;
    private readonly Func<Func<string, int>, int> cycle;

    private ReadyScheme(
        string name,
        string title,
        string words,
        ImmutableArray<SchemeNumber> numbers,
        Func<Func<string, int>, int> cycle,
        Func<SchemeWish, Func<string, int>, IEnumerable<MediaGroup>> groups
    ) => (Name, Title, Words, Numbers, this.cycle, this.groups) = (name, title, words, numbers, cycle, groups);

    /// <summary>By what it is asked for: "two-disks".</summary>
    public string Name { get; }

    /// <summary>Its name for people, and in a sentence or two what it is.</summary>
    public string Title { get; }
    public string Words { get; }
    public ImmutableArray<SchemeNumber> Numbers { get; }

    private const int Year = 366;

    /// <summary>After 28 years the days of the week are on the same dates again.</summary>
    private const int AllWeekdays = 28 * Year;
    private const int MostDaysAway = 10 * Year;
    private const string Media = "media";
    private static readonly LocalTime UsualStart = new(20, 0);

    public static ImmutableArray<ReadyScheme> All { get; } =
    [
        new(
            "weekday-to-yearly",
            "Weekday to yearly",
            "A medium for each night from Monday to Thursday, one for each Friday, and the last Friday of each month and year on media "
                + "that stay away longer. Nothing is written at weekends.",
            [
                new("nights", "media for Monday to Thursday", 4, 1, 40),
                new("weeks", "media for Fridays", 4, 1, 52),
                new("months", "media for the last Friday of a month", 12, 1, 60),
                new("years", "media for the last Friday of December; 0: treated as any month's", 3, 0, 7),
            ],
            n => Year * Math.Max(n("years"), n("months") / 11 + 1),
            WeekdayToYearly
        ),
        new(
            "round-robin",
            "Round robin",
            "So many media that take turns, one a night; the one written longest ago is next.",
            [new(Media, "how many media", 7, 2, 100)],
            n => n(Media),
            (w, n) => [Group(w.Set, "nights", new WeekdayRule(Weekdays.Daily), n(Media))]
        ),
        new(
            "tower-of-hanoi",
            "Tower of Hanoi",
            "Each medium is used half as often as the one before it: the first every second night, the next every fourth, and so on. Few "
                + "media reach far back, with more copies of late and fewer of long ago.",
            [new(Media, "how many media", 5, 3, 10)],
            n => 1 << (n(Media) - 1),
            TowerOfHanoi
        ),
        new(
            "two-disks",
            "Two disks",
            "Two disks that take turns: one is filled night after night while the other is away, then they change places.",
            [new("nights", "nights until they change places", 7, 1, 92)],
            n => 2 * n("nights"),
            (w, n) =>
                [
                    Group(w.Set, "disks", new WeekdayRule(Weekdays.Daily), 2) with
                    {
                        ProtectedFor = Days(n("nights")),
                        FillWindow = new Span(24 * n("nights") - 12, SpanUnit.Hours),
                    },
                ]
        ),
    ];

    public static ReadyScheme? Find(string name) => All.FirstOrDefault(s => s.Name == name);

    /// <summary>The number of this name that a wish gives, or the usual.</summary>
    public int NumberOf(SchemeWish wish, string name) =>
        wish.Numbers.TryGetValue(name, out var given) ? given : Numbers.First(n => n.Name == name).Usual;

    /// <summary>
    /// Reads what somebody wrote, and adds what is wrong with it: a start (local time) that is absent is 20:00, an absent first night (a
    /// local date) is tonight.
    /// </summary>
    public SchemeWish Read(
        string set,
        string? start,
        string? first,
        LocalDate tonight,
        IReadOnlyDictionary<string, int>? numbers,
        ICollection<string> mistakes
    )
    {
        var (time, date) = (UsualStart, tonight);
        if (start is not null && !SentenceWords.TryTime(start, out time, out var problem))
            mistakes.Add($"start: {problem}");
        if (first is not null && !SentenceWords.TryDate(first, out date, out problem))
            mistakes.Add($"first: {problem}");
        else if (Math.Abs(Period.DaysBetween(tonight, date)) > MostDaysAway)
            mistakes.Add($"first: {first} is more than ten years away; use a night that is nearer");
        var wish = new SchemeWish(set, time, date, numbers ?? new Dictionary<string, int>());
        foreach (var mistake in Mistakes(wish))
            mistakes.Add(mistake);
        return wish;
    }

    /// <summary>What is wrong with the numbers of a wish, each with the range that it may have.</summary>
    public IEnumerable<string> Mistakes(SchemeWish wish)
    {
        foreach (var name in wish.Numbers.Keys.Where(k => Numbers.All(n => n.Name != k)))
            yield return $"{Name} has no number '{name}'; it has {string.Join(", ", Numbers.Select(n => n.Name))}";
        foreach (var n in Numbers.Where(n => NumberOf(wish, n.Name) < n.Least || NumberOf(wish, n.Name) > n.Most))
            yield return $"{n.Name} {NumberOf(wish, n.Name)} is out of range; use {n.Least} to {n.Most}";
    }

    /// <summary>The groups in the order in which they are asked whether they take a night.</summary>
    public RotationSet Make(SchemeWish wish)
    {
        var made = groups(wish, name => NumberOf(wish, name)).ToList();
        var turns = new Dictionary<MediaGroup, List<int>>();
        for (var i = 0; i < AllWeekdays; i++)
            if (made.Find(g => g.Serves.Includes(wish.First.PlusDays(i))) is { } takes)
            {
                if (!turns.TryGetValue(takes, out var nights))
                    turns[takes] = nights = [];
                nights.Add(i);
            }
        return new RotationSet(wish.Start, [.. made.Select(g => g.ProtectedFor is null ? g with { ProtectedFor = TurnOf(g) } : g)]);

        // A day less than the shortest time between two turns of a medium, so that the run before has ended.
        Span TurnOf(MediaGroup group)
        {
            var nights = turns[group];
            var days = nights.Skip(group.Media.Length).Zip(nights, (later, night) => later - night).Min() - 1;
            return days == 0 ? new Span(20, SpanUnit.Hours) : Days(days);
        }
    }

    /// <summary>
    /// So many nights of its calendar from the first on, by the wall clock of a zone, and what can be counted on once every medium has had
    /// its turn. The wish has no mistakes.
    /// </summary>
    public SchemePlay Play(SchemeWish wish, DateTimeZone zone, int nights)
    {
        var set = Make(wish);
        var settles = 2 * cycle(name => NumberOf(wish, name));
        return SchemePlay.Of(set, RotationRules.Play(set, zone, wish.First, Math.Max(nights, settles + Year)), settles, nights);
    }

    private static Span Days(int days) => new(days, SpanUnit.Days);

    /// <summary>It is protected for as long as its turn allows, unless something else is said.</summary>
    private static MediaGroup Group(string set, string part, DayRule serves, int media)
    {
        // Labels are chosen by their order, so the digits of all are as many as the last one's.
        var digits = media.ToString(CultureInfo.InvariantCulture).Length;
        var labels = Enumerable
            .Range(1, media)
            .Select(i => $"{set}-{part[..^1]}-{i.ToString(CultureInfo.InvariantCulture).PadLeft(digits, '0')}");
        return new MediaGroup($"{set}-{part}", serves, [.. labels], null);
    }

    private static IEnumerable<MediaGroup> WeekdayToYearly(SchemeWish wish, Func<string, int> number)
    {
        if (number("years") is > 0 and var years)
            yield return Group(wish.Set, "years", new OrdinalWeekdayRule(0, IsoDayOfWeek.Friday, new Months(1 << 11)), years);
        yield return Group(wish.Set, "months", new OrdinalWeekdayRule(0, IsoDayOfWeek.Friday, Months.All), number("months"));
        yield return Group(wish.Set, "weeks", new WeekdayRule(new Weekdays(0b001_0000)), number("weeks"));
        yield return Group(wish.Set, "nights", new WeekdayRule(new Weekdays(0b000_1111)), number("nights"));
    }

    private static IEnumerable<MediaGroup> TowerOfHanoi(SchemeWish wish, Func<string, int> number)
    {
        var media = number(Media);
        for (var i = 1; i <= media; i++)
        {
            // The last two share the nights that are left between the others.
            var serves = new EveryDaysRule(1 << Math.Min(i, media - 1), wish.First.PlusDays((1 << (i - 1)) - 1));
            yield return new MediaGroup($"{wish.Set}-turn-{i}", serves, [$"{wish.Set}-disk-{i}"], null);
        }
    }
}
