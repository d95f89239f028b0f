using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Rotation;

/// <summary>Chooses the medium of every night. Pure and deterministic. Source: docs/semantics.md, section 5 (Rotation sets).</summary>
public static class RotationRules
{
    /// <summary>
    /// Plays the nights from <paramref name="first"/> on, one run a night, from what is known of the media (one that is not named
    /// was never used). A night of shortage changes nothing.
    /// </summary>
    public static ImmutableArray<RotationNight> Play(
        RotationSet set,
        DateTimeZone zone,
        LocalDate first,
        int nights,
        IEnumerable<MediumFacts>? known = null,
        ClosedDays? closed = null
    )
    {
        var media = (known ?? []).ToDictionary(m => m.Label);
        var played = ImmutableArray.CreateBuilder<RotationNight>(nights);
        for (var i = 0; i < nights; i++)
        {
            var date = first.PlusDays(i);
            var start = (date + set.Start).InZone(zone, m => m.Count == 0 ? m.LateInterval.Start.InZone(zone) : m.First()).ToInstant();
            var group = set.Groups.FirstOrDefault(g => g.Serves.Includes(date, closed));
            if (group is null)
            {
                played.Add(new RotationNight(date, start, null, null, false, null, null, "no group serves this night"));
                continue;
            }
            var night = Choose(group, media, zone, date, start);
            played.Add(night);
            if (night.Medium is not { } label)
                continue;
            var before = media.GetValueOrDefault(label);
            media[label] = new MediumFacts(label, night.Appends ? before!.FirstWrite : start, group.RunLength.After(start, zone));
        }
        return played.MoveToImmutable();
    }

    /// <summary>The choice for one run of a group that starts at an instant.</summary>
    public static RotationNight Choose(
        MediaGroup group,
        IReadOnlyDictionary<string, MediumFacts> known,
        DateTimeZone zone,
        LocalDate date,
        Instant start
    )
    {
        var media = group
            .Media.Order(StringComparer.Ordinal)
            .Select(label => known.GetValueOrDefault(label) ?? new MediumFacts(label))
            .ToList();
        var usable = media.Where(m => m.Unusable is null).ToList();
        var end = group.RunLength.After(start, zone);

        var open = usable
            .Where(m => m.FirstWrite is { } begun && begun <= start && start < group.FillWindow.After(begun, zone))
            .MaxBy(m => m.FirstWrite);
        if (open is not null)
            return Take(open, true, $"{open.Label} is open: begun {Local(open.FirstWrite!.Value)}, filled for {group.FillWindow}");
        if (usable.FirstOrDefault(m => m.LastEnd is null) is { } fresh)
            return Take(fresh, false, $"{fresh.Label} was never used");
        var free = usable.Select(m => (Medium: m, Until: ProtectedUntil(group, m.LastEnd!.Value, zone))).ToList();
        var longest = free.Where(f => f.Until <= start)
            .OrderBy(f => f.Until)
            .ThenBy(f => f.Medium.Label, StringComparer.Ordinal)
            .FirstOrDefault();
        if (longest.Medium is not null)
            return Take(longest.Medium, false, $"{longest.Medium.Label} is free longest, since {Local(longest.Until!.Value)}");

        var next = free.Where(f => f.Until is not null)
            .OrderBy(f => f.Until)
            .ThenBy(f => f.Medium.Label, StringComparer.Ordinal)
            .FirstOrDefault();
        var barred = media.Where(m => m.Unusable is not null).Select(m => $"{m.Label} {m.Unusable}").ToList();
        var why =
            $"no free medium in {group.Name}: "
            + (
                next.Medium is null
                    ? "every one is protected always"
                    : $"{next.Medium.Label} will be free first, {Local(next.Until!.Value)}"
            )
            + (barred.Count == 0 ? "" : $"; {string.Join(", ", barred)}");
        return new RotationNight(date, start, group.Name, null, false, null, new Shortage(next.Medium?.Label, next.Until), why);

        RotationNight Take(MediumFacts medium, bool appends, string because) =>
            new(date, start, group.Name, medium.Label, appends, ProtectedUntil(group, end, zone), null, because);

        string Local(Instant instant) => instant.InZone(zone).LocalDateTime.ToString("uuuu-MM-dd HH:mm", CultureInfo.InvariantCulture);
    }

    /// <summary>Until when a medium is protected whose last write ended at an instant; null: always.</summary>
    public static Instant? ProtectedUntil(MediaGroup group, Instant lastEnd, DateTimeZone zone) => group.ProtectedFor?.After(lastEnd, zone);
}
