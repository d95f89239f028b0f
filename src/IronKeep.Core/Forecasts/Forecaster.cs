using System.Collections.Immutable;
using IronKeep.Core.Charters;
using IronKeep.Core.Rotation;
using NodaTime;

namespace IronKeep.Core.Forecasts;

/// <summary>
/// Plays a charter forward: planned runs with start and end under ceilings and windows, copies with their expiry, bytes in every
/// store, the medium of every night, and what will go wrong. Pure and deterministic. Source: docs/semantics.md, section 7 (Figures).
/// </summary>
public static class Forecaster
{
    /// <summary>The outage that every forecast tries: a whole day from the next midnight on.</summary>
    private static readonly Duration TriedOutage = Duration.FromDays(1);
    private const int StormDays = 4;

    /// <summary>
    /// The coming days. Throws <see cref="ForecastTooLargeException"/> when too many runs would be due, and
    /// <see cref="ArgumentOutOfRangeException"/> for a span of less than a day or more than ten years.
    /// </summary>
    public static Forecast Play(ForecastInput input)
    {
        if (input.Days is < 1 or > ForecastInput.MostDays)
            throw new ArgumentOutOfRangeException(nameof(input), $"a forecast plays 1 to {ForecastInput.MostDays} days, not {input.Days}");
        var player = new Player(input);
        var forecast = player.Play();
        forecast = forecast with { Rotations = PlayRotations(input) };
        var findings = new FindingsOf(forecast, player).All();
        if (input.Outage is null && Storm(input) is { } storm)
            findings.Add(storm);
        return forecast with
        {
            Findings =
            [
                .. findings.OrderBy(f => f.Kind).ThenBy(f => f.At ?? Instant.MinValue).ThenBy(f => f.Subject, StringComparer.Ordinal),
            ],
        };
    }

    /// <summary>
    /// A set's nights from a local date on, played from the set's own first night so that every look gives the same turn; before
    /// that it has none. With how many media would be enough.
    /// </summary>
    public static SetNights Nights(Charter charter, RotationSetDefinition declared, LocalDate from, int nights)
    {
        var (set, zone, closed) = charter.RotationOf(declared);
        var first = declared.First < from ? declared.First : from;
        var skipped = Period.DaysBetween(first, from);
        var played = RotationRules
            .Play(set, zone, first, skipped + nights, closed: closed)
            .Skip(skipped)
            .Where(n => n.Date >= declared.First);
        return new SetNights(declared.Name, [.. played], [.. set.Groups.Select(g => EnoughMedia.For(set, g, zone, from, closed))]);
    }

    private static ImmutableArray<SetNights> PlayRotations(ForecastInput input) =>
        [
            .. input.Charter.RotationSets.Values.Select(s =>
                Nights(input.Charter, s, input.AsOf.InZone(s.Zone ?? input.Charter.Zone).Date, input.Days)
            ),
        ];

    /// <summary>What happens after a day of outage: how many runs come at once, and what they delay.</summary>
    private static Finding? Storm(ForecastInput input)
    {
        var midnight = input.Charter.Zone.AtStartOfDay(input.AsOf.InZone(input.Charter.Zone).Date.PlusDays(1)).ToInstant();
        var outage = new Outage(midnight, midnight + TriedOutage);
        var bare = input with
        {
            Days = StormDays,
            Copies = [],
            Charter = input.Charter with { RotationSets = input.Charter.RotationSets.Clear() },
        };
        var player = new Player(bare with { Outage = outage });
        var played = player.Play();
        var caughtUp = played.Runs.Where(r => r.Outcome == PlayedOutcome.CatchUp).ToList();
        if (caughtUp.Count < 2)
            return null;
        var quiet = new Player(bare);
        quiet.Play();
        var late = player.Notes.Late.Keys.Except(quiet.Notes.Late.Keys).Order(StringComparer.Ordinal).ToList();
        if (late.Count == 0)
            return null;
        var last = caughtUp.Max(r => r.Start);
        return new Finding(
            FindingKind.Storm,
            null,
            "the whole",
            $"after an outage of a whole day {caughtUp.Count} runs catch up at once; the last begins {FindingsOf.Words(last - outage.To)} "
                + $"after the return, and {string.Join(", ", late.Take(5))}{(late.Count > 5 ? $" and {late.Count - 5} more" : "")} would "
                + $"start later than their start limits",
            "give important jobs a higher importance, others 'catch-up: none', or raise the ceilings"
        );
    }
}
