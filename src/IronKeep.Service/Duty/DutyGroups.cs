using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;

namespace IronKeep.Service.Duty;

/// <summary>Makes a board of many jobs fit one screen: a row for each group, those with trouble first.</summary>
internal static class DutyGroups
{
    /// <summary>So many rows are looked at without scrolling.</summary>
    public const int MostRows = 30;

    /// <summary>Nights of a group that are shown.</summary>
    public const int MostNights = 14;

    private const string Untagged = "no tag";

    /// <summary>Job by job where they fit; else by machine, or by tag where one machine has them all and tags tell them apart.</summary>
    public static DutyGrouping Usual(Charter charter)
    {
        if (charter.Placed.All.Length <= MostRows)
            return DutyGrouping.Job;
        return charter.Placed.All.Select(j => j.Machine).Distinct().Skip(1).Any() || !charter.Placed.All.Any(j => j.Tags.Length > 0)
            ? DutyGrouping.Machine
            : DutyGrouping.Tag;
    }

    /// <summary>The groups, those with trouble first; what does not fit stands in the last row together.</summary>
    public static List<DutyGroupRow> Of(Charter charter, IReadOnlyList<DutyJobRow> board, DutyGrouping by, string lastNight)
    {
        var groups = board
            .SelectMany(row => NamesOf(charter, row, by).Select(name => (Name: name, Row: row)))
            .GroupBy(r => r.Name, r => r.Row)
            .Select(g => Row(g.Key, [.. g], 1, lastNight))
            .OrderByDescending(g => g.WrongLastNight)
            .ThenByDescending(g => g.Stale)
            .ThenBy(g => g.Name, StringComparer.Ordinal)
            .ToList();
        if (groups.Count <= MostRows)
            return groups;
        var rest = groups[(MostRows - 1)..].Select(g => g.Name).ToHashSet();
        var together = board.Where(row => NamesOf(charter, row, by).Any(rest.Contains)).ToList();
        return [.. groups[..(MostRows - 1)], Row($"{rest.Count} more", together, rest.Count, lastNight)];
    }

    private static List<string> NamesOf(Charter charter, DutyJobRow row, DutyGrouping by)
    {
        if (by == DutyGrouping.Machine)
            return [row.Machine];
        var tags = charter
            .Placed.Find(row.Job, row.Machine)!
            .Tags.Concat(charter.Machines.GetValueOrDefault(row.Machine)?.Tags ?? [])
            .Distinct()
            .ToList();
        return tags.Count > 0 ? tags : [Untagged];
    }

    private static DutyGroupRow Row(string name, List<DutyJobRow> rows, int groups, string lastNight)
    {
        var nights = rows[0].Nights;
        var from = Math.Max(0, nights.Count - MostNights);
        var last = Array.FindIndex([.. nights], n => n.Date == lastNight);
        return new DutyGroupRow(
            name,
            groups,
            rows.Count,
            rows.Count(r => r.Stale),
            rows.Count(r => r.Pause is not null),
            last < 0 ? 0 : rows.Count(r => IsBad(r.Nights[last].Outcome)),
            [
                .. Enumerable
                    .Range(from, nights.Count - from)
                    .Select(i => new DutyGroupNight(
                        nights[i].Date,
                        rows.Sum(r => r.Nights[i].Planned),
                        rows.Count(r => IsBad(r.Nights[i].Outcome)),
                        NightBoard.Worst(rows.Select(r => r.Nights[i].Outcome))
                    )),
            ]
        );
    }

    public static bool IsBad(Outcome? outcome) =>
        outcome is Outcome.Failed or Outcome.TimedOut or Outcome.Missed or Outcome.Refused or Outcome.Suspect;
}
