using System.Globalization;
using NodaTime;
using NodaTime.Calendars;

namespace IronKeep.Core.Retention;

/// <summary>Works through a policy's rungs over the counted copies, newest first, and remembers why each copy is kept.</summary>
internal sealed class Ladder(DateTimeZone zone, Instant asOf)
{
    private readonly Dictionary<string, Instant?> leaves = [];
    private RetentionPolicy? climbed;

    /// <summary>Reasons by copy id, for the copies that some rung keeps.</summary>
    public Dictionary<string, List<string>> Reasons { get; } = [];

    public void Climb(RetentionPolicy policy, IReadOnlyList<CopyFacts> counted)
    {
        climbed = policy;
        foreach (var rung in policy.Rungs)
        {
            // With "then" a rung sees what earlier rungs kept; its own picks are not yet among them.
            var earlier = policy.Connective == RungConnective.Then ? Reasons.Keys.ToHashSet() : [];
            switch (rung)
            {
                case NewestRung newest:
                    var rank = 0;
                    foreach (var copy in counted.Where(c => !earlier.Contains(c.Id)).Take(newest.Count))
                        Keep(copy, $"newest {newest.Count}: number {++rank}", null, forGood: true);
                    break;
                case PeriodRung period:
                    ClimbPeriods(period, counted, earlier);
                    break;
                case WithinRung within:
                    foreach (var copy in counted)
                    {
                        var leavesAt = within.Span.After(copy.Taken, zone);
                        if (asOf < leavesAt) Keep(copy, $"all within {within.Span}", leavesAt, forGood: false);
                    }
                    break;
                case ForeverRung:
                    foreach (var copy in counted) Keep(copy, "forever", null, forGood: true);
                    break;
            }
        }
    }

    /// <summary>The instant a rule gives for the copy's leaving; null when it depends on copies still to come.</summary>
    public Instant? LeavesAt(string id) => leaves.GetValueOrDefault(id);

    /// <summary>Why no rung keeps this counted copy.</summary>
    public string WhyNot(CopyFacts copy)
    {
        var last = climbed!.Rungs.OfType<WithinRung>().Select(r => (Instant?)r.Span.After(copy.Taken, zone)).Max();
        return last is { } since && climbed.Rungs.Length == 1
            ? $"no rung of '{climbed}' keeps it since {since.InZone(zone).LocalDateTime.ToString("uuuu-MM-dd HH:mm", CultureInfo.InvariantCulture)}"
            : $"no rung of '{climbed}' keeps it: newer copies fill their places";
    }

    private void ClimbPeriods(PeriodRung rung, IReadOnlyList<CopyFacts> counted, HashSet<string> earlier)
    {
        var represented = counted.Where(c => earlier.Contains(c.Id)).Select(c => PeriodOf(c.Taken, rung.Period)).ToHashSet();
        var left = rung.Count;
        foreach (var copy in counted)
        {
            if (left == 0) return;
            var period = PeriodOf(copy.Taken, rung.Period);
            if (!represented.Add(period)) continue;
            Keep(copy, $"{rung}: newest of {period}", null, forGood: true);
            left--;
        }
    }

    private void Keep(CopyFacts copy, string reason, Instant? leavesAt, bool forGood)
    {
        if (!Reasons.TryGetValue(copy.Id, out var reasons))
        {
            Reasons[copy.Id] = reasons = [];
            leaves[copy.Id] = leavesAt;
        }
        else if (forGood) leaves[copy.Id] = null;
        else if (leaves[copy.Id] is { } known && leavesAt > known) leaves[copy.Id] = leavesAt;
        reasons.Add(reason);
    }

    /// <summary>The period's name, which is also its identity.</summary>
    private string PeriodOf(Instant taken, RungPeriod period)
    {
        var local = taken.InZone(zone);
        return period switch
        {
            RungPeriod.Hour => local.ToString("uuuu-MM-dd HH o<g>", CultureInfo.InvariantCulture),
            RungPeriod.Day => local.Date.ToString("uuuu-MM-dd", CultureInfo.InvariantCulture),
            RungPeriod.Week => string.Create(CultureInfo.InvariantCulture, $"{WeekYearRules.Iso.GetWeekYear(local.Date)}-W{WeekYearRules.Iso.GetWeekOfWeekYear(local.Date):00}"),
            RungPeriod.Month => local.Date.ToString("uuuu-MM", CultureInfo.InvariantCulture),
            _ => local.Year.ToString("0000", CultureInfo.InvariantCulture),
        };
    }
}
