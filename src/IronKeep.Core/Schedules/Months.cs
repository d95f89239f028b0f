namespace IronKeep.Core.Schedules;

/// <summary>A set of months of the year.</summary>
public readonly record struct Months(int Mask)
{
    internal static readonly string[] Names = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];

    /// <summary>Every month; written "month".</summary>
    public static Months All { get; } = new(0xFFF);

    public bool Contains(int month) => (Mask & (1 << (month - 1))) != 0;

    /// <summary>Reads "month" (all of them) or a list with ranges such as "jan,jul" or "nov-feb" (over the year's end).</summary>
    public static bool TryParse(string word, out Months months)
    {
        months = word.Equals("month", StringComparison.OrdinalIgnoreCase) ? All : new Months(NamedSet.Read(word, Names));
        return months.Mask != 0;
    }

    public override string ToString() => this == All ? "month" : NamedSet.Write(Mask, Names);
}

/// <summary>Sets of named things that come round: weekdays and months.</summary>
internal static class NamedSet
{
    /// <summary>A bit for each name in a list with ranges; 0 when some part cannot be read.</summary>
    public static int Read(string text, string[] names)
    {
        var mask = 0;
        foreach (var part in text.ToLowerInvariant().Split(','))
        {
            var ends = part.Trim().Split('-');
            var first = Array.IndexOf(names, ends[0].Trim());
            var last = ends.Length == 2 ? Array.IndexOf(names, ends[1].Trim()) : first;
            if (ends.Length > 2 || first < 0 || last < 0)
                return 0;
            for (var at = first; ; at = (at + 1) % names.Length)
            {
                mask |= 1 << at;
                if (at == last)
                    break;
            }
        }
        return mask;
    }

    public static string Write(int mask, string[] names) => string.Join(",", names.Where((_, i) => (mask & (1 << i)) != 0));
}
