using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>A set of days of the week, ISO order (Monday first).</summary>
public readonly record struct Weekdays(int Mask)
{
    private static readonly string[] Names = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

    public static Weekdays Daily { get; } = new(0b111_1111);
    public static Weekdays WorkingWeek { get; } = new(0b001_1111);
    public static Weekdays Weekend { get; } = new(0b110_0000);

    public bool Contains(IsoDayOfWeek day) => (Mask & (1 << ((int)day - 1))) != 0;

    /// <summary>Reads "daily", "weekdays", "weekends", or a list with ranges such as "mon-fri, sun" ("fri-mon" goes over the weekend).</summary>
    public static bool TryParse(string word, out Weekdays days)
    {
        days = word.ToLowerInvariant() switch
        {
            "daily" => Daily,
            "weekdays" => WorkingWeek,
            "weekends" => Weekend,
            _ => default,
        };
        if (days.Mask != 0) return true;
        var mask = 0;
        foreach (var part in word.ToLowerInvariant().Split(','))
        {
            var ends = part.Trim().Split('-');
            var first = Array.IndexOf(Names, ends[0].Trim());
            var last = ends.Length == 2 ? Array.IndexOf(Names, ends[1].Trim()) : first;
            if (ends.Length > 2 || first < 0 || last < 0) return false;
            for (var day = first; ; day = (day + 1) % 7)
            {
                mask |= 1 << day;
                if (day == last) break;
            }
        }
        days = new Weekdays(mask);
        return mask != 0;
    }

    public override string ToString()
    {
        if (this == Daily) return "daily";
        if (this == WorkingWeek) return "weekdays";
        if (this == Weekend) return "weekends";
        var mask = Mask;
        return string.Join(",", Names.Where((_, i) => (mask & (1 << i)) != 0));
    }
}
