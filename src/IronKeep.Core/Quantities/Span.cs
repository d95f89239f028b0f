using System.Globalization;
using NodaTime;

namespace IronKeep.Core.Quantities;

/// <summary>Units of a <see cref="Span"/>. Minutes and hours are elapsed time; days and longer are wall-clock time.</summary>
public enum SpanUnit
{
    Minutes,
    Hours,
    Days,
    Weeks,
    Months,
    Years,
}

/// <summary>
/// A length of time as people state it: "36 hours", "10 days". Days, weeks, months and years move the wall clock in a zone
/// (a day may have 23 or 25 hours); minutes and hours are elapsed time.
/// </summary>
public readonly record struct Span(int Count, SpanUnit Unit)
{
    /// <summary>The largest count accepted, so that every sum stays inside the calendar.</summary>
    public const int LargestCount = 100_000;

    /// <summary>Longer ones are as long as this in elapsed time, so that it can be added to any instant of these centuries.</summary>
    private const int MostYears = 5000;

    /// <summary>
    /// The instant this span after <paramref name="instant"/>, by the wall clock of <paramref name="zone"/> for days and longer.
    /// </summary>
    public Instant After(Instant instant, DateTimeZone zone) =>
        Unit switch
        {
            SpanUnit.Minutes => instant + Duration.FromMinutes(Count),
            SpanUnit.Hours => instant + Duration.FromHours(Count),
            _ => Plus(instant.InZone(zone).LocalDateTime, Count).InZoneLeniently(zone).ToInstant(),
        };

    /// <summary>The local time this span before another, by the wall clock.</summary>
    public LocalDateTime Before(LocalDateTime local) => Plus(local, -Count);

    /// <summary>
    /// The span in elapsed time, with a day of 24 hours, a month of 30 days and a year of 365. For limits, not for calendars.
    /// </summary>
    public Duration ToDuration() =>
        Unit switch
        {
            SpanUnit.Minutes => Duration.FromMinutes(Count),
            SpanUnit.Hours => Duration.FromHours(Count),
            SpanUnit.Days => Duration.FromDays(Count),
            SpanUnit.Weeks => Duration.FromDays(7L * Count),
            SpanUnit.Months => Duration.FromDays(30L * Math.Min(Count, 12 * MostYears)),
            _ => Duration.FromDays(365L * Math.Min(Count, MostYears)),
        };

    /// <summary>Reads "36 hours", "3 days", "10 min". A number without a unit is refused.</summary>
    public static bool TryParse(string text, out Span span, out string problem)
    {
        span = default;
        problem = "";
        var trimmed = text.Trim();
        var digits = trimmed.TakeWhile(char.IsAsciiDigit).Count();
        var unitText = trimmed[digits..].Trim().ToLowerInvariant();
        if (
            digits == 0
            || !int.TryParse(trimmed[..digits], NumberStyles.None, CultureInfo.InvariantCulture, out var count)
            || count > LargestCount
        )
        {
            problem = $"'{text}' is not a span of time; write a whole number and a unit, such as 36 hours";
            return false;
        }
        if (unitText.Length == 0)
        {
            problem = $"'{text}' has no unit; write {trimmed} days or {trimmed} hours, say";
            return false;
        }
        if (!TryUnit(unitText, out var unit))
        {
            problem = $"'{unitText}' is not a unit of time; use minutes, hours, days, weeks, months or years";
            return false;
        }
        span = new Span(count, unit);
        return true;
    }

    /// <summary>Reads a unit's name, singular or plural, or "min".</summary>
    public static bool TryUnit(string word, out SpanUnit unit)
    {
        (var known, unit) = word.ToLowerInvariant() switch
        {
            "minute" or "minutes" or "min" => (true, SpanUnit.Minutes),
            "hour" or "hours" => (true, SpanUnit.Hours),
            "day" or "days" => (true, SpanUnit.Days),
            "week" or "weeks" => (true, SpanUnit.Weeks),
            "month" or "months" => (true, SpanUnit.Months),
            "year" or "years" => (true, SpanUnit.Years),
            _ => (false, default),
        };
        return known;
    }

    public override string ToString()
    {
        var unit = Unit.ToString().ToLowerInvariant();
        return $"{Count} {(Count == 1 ? unit[..^1] : unit)}";
    }

    private LocalDateTime Plus(LocalDateTime local, int count) =>
        Unit switch
        {
            SpanUnit.Minutes => local.PlusMinutes(count),
            SpanUnit.Hours => local.PlusHours(count),
            SpanUnit.Days => local.PlusDays(count),
            SpanUnit.Weeks => local.PlusWeeks(count),
            SpanUnit.Months => local.PlusMonths(count),
            _ => local.PlusYears(count),
        };
}
