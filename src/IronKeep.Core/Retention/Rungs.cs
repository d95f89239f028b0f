using System.Globalization;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Retention;

/// <summary>
/// What is told when a rung keeps a copy: which copy (by its row, oldest first), which rung, and its rank on the rung from 1.
/// </summary>
internal interface IRungSink
{
    void Keep(int row, int rung, int rank);

    bool IsKept(int row);
}

/// <summary>
/// The rungs of one policy in one zone, worked through over columns of copies: no text and no objects per copy, so that a decision
/// and a year of nights go through the same code. Rows are oldest first. One instance serves one thread.
/// </summary>
internal sealed class Rungs(RetentionPolicy policy, DateTimeZone zone)
{
    private readonly HashSet<long> represented = [];
    private long offsetFrom = long.MaxValue,
        offsetTo = long.MinValue,
        offset;

    public RetentionPolicy Policy => policy;

    public int Count => policy.Rungs.Length;

    /// <summary>
    /// What a rung needs to know about a copy, worked out once: the number of its period, or the instant (Unix time in ticks) at which
    /// "all within" lets it go; 0 for other rungs.
    /// </summary>
    public long KeyOf(int rung, Instant taken) =>
        policy.Rungs[rung] switch
        {
            PeriodRung period => PeriodOf(period.Period, taken),
            WithinRung within => Leaves(within, taken).ToUnixTimeTicks(),
            _ => 0,
        };

    /// <summary>
    /// Tells which copies the rungs keep as of an instant. <paramref name="keys"/> holds a column for each rung, with at least
    /// <paramref name="rows"/> entries.
    /// </summary>
    public void Climb<TSink>(int rows, long[][] keys, Instant asOf, ref TSink sink)
        where TSink : struct, IRungSink
    {
        var then = policy.Connective == RungConnective.Then;
        for (var rung = 0; rung < policy.Rungs.Length; rung++)
        {
            // With "then" a rung sees what earlier rungs kept; its own picks are not yet among them.
            var skips = then && rung > 0;
            switch (policy.Rungs[rung])
            {
                case NewestRung newest:
                    var rank = 0;
                    for (var row = rows - 1; row >= 0 && rank < newest.Count; row--)
                        if (!skips || !sink.IsKept(row))
                            sink.Keep(row, rung, ++rank);
                    break;
                case PeriodRung period:
                    ClimbPeriods(rung, period.Count, rows, keys[rung], skips, ref sink);
                    break;
                case WithinRung:
                    var now = asOf.ToUnixTimeTicks();
                    for (var row = rows - 1; row >= 0; row--)
                        if (now < keys[rung][row])
                            sink.Keep(row, rung, 0);
                    break;
                case ForeverRung:
                    for (var row = rows - 1; row >= 0; row--)
                        sink.Keep(row, rung, 0);
                    break;
            }
        }
    }

    /// <summary>The instant at which "all within" lets a copy go.</summary>
    public Instant Leaves(WithinRung within, Instant taken) => within.Span.After(taken, zone);

    /// <summary>The period's name for people: "2026-07-15", "2026-W29".</summary>
    public string NameOf(RungPeriod period, Instant taken)
    {
        var local = taken.ToUnixTimeSeconds() + OffsetAt(taken.ToUnixTimeSeconds());
        var day = (int)Math.Floor(local / 86_400.0);
        var date = Civil.Of(day);
        var culture = CultureInfo.InvariantCulture;
        switch (period)
        {
            case RungPeriod.Hour:
                var hour = (local - day * 86_400L) / 3600;
                return string.Create(
                    culture,
                    $"{date.Year:0000}-{date.Month:00}-{date.Day:00} {hour:00} "
                        + $"{(offset < 0 ? '-' : '+')}{Math.Abs(offset) / 3600:00}"
                        + $"{(offset % 3600 == 0 ? "" : string.Create(culture, $":{Math.Abs(offset) / 60 % 60:00}"))}"
                );
            case RungPeriod.Day:
                return string.Create(culture, $"{date.Year:0000}-{date.Month:00}-{date.Day:00}");
            case RungPeriod.Week:
                var thursday = Civil.Of(day - Civil.Weekday(day) + 3);
                return string.Create(
                    culture,
                    $"{thursday.Year:0000}-W{(day - Civil.Weekday(day) + 3 - Civil.ToDay(thursday.Year, 1, 1)) / 7 + 1:00}"
                );
            case RungPeriod.Month:
                return string.Create(culture, $"{date.Year:0000}-{date.Month:00}");
            default:
                return date.Year.ToString("0000", culture);
        }
    }

    private void ClimbPeriods<TSink>(int rung, int count, int rows, long[] periods, bool skips, ref TSink sink)
        where TSink : struct, IRungSink
    {
        if (!Ascends(periods, rows))
        {
            ClimbMixedPeriods(rung, count, rows, periods, skips, ref sink);
            return;
        }
        // Copies of one period stand side by side, so each period is looked at once.
        var rank = 0;
        for (var row = rows - 1; row >= 0 && rank < count; )
        {
            var newest = row;
            var represented = false;
            for (; row >= 0 && periods[row] == periods[newest]; row--)
                represented |= skips && sink.IsKept(row);
            if (!represented)
                sink.Keep(newest, rung, ++rank);
        }
    }

    /// <summary>The same where a clock set back mixes periods: an hour or a date that comes twice.</summary>
    private void ClimbMixedPeriods<TSink>(int rung, int count, int rows, long[] periods, bool skips, ref TSink sink)
        where TSink : struct, IRungSink
    {
        represented.Clear();
        if (skips)
        {
            for (var row = 0; row < rows; row++)
                if (sink.IsKept(row))
                    represented.Add(periods[row]);
        }
        var rank = 0;
        for (var row = rows - 1; row >= 0 && rank < count; row--)
            if (represented.Add(periods[row]))
                sink.Keep(row, rung, ++rank);
    }

    private static bool Ascends(long[] periods, int rows)
    {
        for (var row = 1; row < rows; row++)
            if (periods[row] < periods[row - 1])
                return false;
        return true;
    }

    private long PeriodOf(RungPeriod period, Instant taken)
    {
        var second = taken.ToUnixTimeSeconds();
        var local = second + OffsetAt(second);
        if (period == RungPeriod.Hour)
            return (long)Math.Floor(local / 3600.0) * 200_000 + offset + 100_000;
        var day = (int)Math.Floor(local / 86_400.0);
        if (period == RungPeriod.Day)
            return day;
        if (period == RungPeriod.Week)
            return Civil.Week(day);
        var date = Civil.Of(day);
        return period == RungPeriod.Month ? date.Year * 12L + date.Month : date.Year;
    }

    private long OffsetAt(long second)
    {
        if (second >= offsetFrom && second < offsetTo)
            return offset;
        var interval = zone.GetZoneInterval(Instant.FromUnixTimeSeconds(second));
        offsetFrom = interval.HasStart ? interval.Start.ToUnixTimeSeconds() : long.MinValue;
        offsetTo = interval.HasEnd ? interval.End.ToUnixTimeSeconds() : long.MaxValue;
        offset = interval.WallOffset.Seconds;
        return offset;
    }
}
