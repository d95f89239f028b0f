using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>Turns a schedule in a zone into instants.</summary>
public static class DueInstants
{
    /// <summary>
    /// Due instants strictly after <paramref name="after"/> and up to and including <paramref name="upTo"/>, ascending, each
    /// once. An <paramref name="after"/> that is itself a due instant is not given again. Lazy: the caller may stop early.
    /// </summary>
    public static IEnumerable<Instant> Between(Schedule schedule, DateTimeZone zone, Instant after, Instant upTo)
    {
        if (upTo <= after) yield break;
        var pending = new SortedSet<Instant>();
        // A clock change can carry a local time to the neighbouring date, so the search starts a day early.
        var date = after.InZone(zone).Date.PlusDays(-1);
        while (true)
        {
            foreach (var time in schedule.TimesOn(date))
            {
                foreach (var instant in schedule.Resolve(date.At(time), zone))
                {
                    if (instant > after && instant <= upTo) pending.Add(instant);
                }
            }
            date = date.PlusDays(1);
            var dayStart = StartOf(date, zone);
            // What is due before the next date begins can no longer be preceded by anything.
            while (pending.Count > 0 && pending.Min < dayStart)
            {
                yield return pending.Min;
                pending.Remove(pending.Min);
            }
            if (dayStart > upTo)
            {
                foreach (var instant in pending) yield return instant;
                yield break;
            }
        }
    }

    // A zone can leave out a whole date; it then begins, and ends, where the clock goes on.
    private static Instant StartOf(LocalDate date, DateTimeZone zone)
    {
        var mapping = zone.MapLocal(date.AtMidnight());
        return mapping.Count == 0 ? mapping.LateInterval.Start : mapping.First().ToInstant();
    }

    /// <summary>The first due instant strictly after <paramref name="asOf"/>; null when none comes within ten years.</summary>
    public static Instant? Next(Schedule schedule, DateTimeZone zone, Instant asOf)
    {
        foreach (var instant in Between(schedule, zone, asOf, asOf + Duration.FromDays(3660))) return instant;
        return null;
    }
}
