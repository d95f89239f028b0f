using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Rotation;

/// <summary>How many media a group needs so that no night is short; null: no number is enough, because each is protected always.</summary>
public sealed record EnoughMedia(string Group, int? Count, string How)
{
    private const int Nights = 366;

    /// <summary>
    /// For nights at an even distance longer than the fill window: ceil((run length + protection) / period). Otherwise a play of
    /// twelve months with more and more media. Source: docs/semantics.md, section 5 (Rotation sets).
    /// </summary>
    public static EnoughMedia For(RotationSet set, MediaGroup group, DateTimeZone zone, LocalDate first, ClosedDays? closed = null)
    {
        if (group.ProtectedFor is not { } protection)
            return new EnoughMedia(group.Name, null, "each medium is protected always, so every fill needs a new one");
        var served = Enumerable
            .Range(0, Nights)
            .Select(i => first.PlusDays(i))
            .Where(d => set.Groups.FirstOrDefault(g => g.Serves.Includes(d, closed)) == group)
            .ToList();
        if (served.Count < 2)
            return new EnoughMedia(group.Name, 1, "it serves less than two nights of the coming year");
        var gaps = served.Zip(served.Skip(1), (a, b) => Period.DaysBetween(a, b)).Distinct().ToList();
        var period = Duration.FromDays(gaps[0]);
        if (gaps.Count == 1 && group.FillWindow.ToDuration() <= period && protection.Unit < SpanUnit.Months)
        {
            var bound = group.RunLength.ToDuration() + protection.ToDuration();
            var count = (int)Math.Max(1, Math.Ceiling(bound / period));
            return new EnoughMedia(
                group.Name,
                count,
                $"one every {Counted.Of(gaps[0], "day")}: (run {group.RunLength} + protection {protection}) / {Counted.Of(gaps[0], "day")}"
            );
        }
        // More media are never worse, so the smallest number is found by halving.
        var (low, high) = (1, served.Count);
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (IsEnough(middle))
                high = middle;
            else
                low = middle + 1;
        }
        return new EnoughMedia(group.Name, low, "found by playing twelve months");

        bool IsEnough(int count)
        {
            var tried = group with { Media = [.. Enumerable.Range(0, count).Select(i => $"{i:0000}")] };
            var play = RotationRules.Play(
                set with
                {
                    Groups = [.. set.Groups.Select(g => g == group ? tried : g)],
                },
                zone,
                first,
                Nights,
                closed: closed
            );
            return play.All(n => n.Group != group.Name || n.Shortage is null);
        }
    }
}
