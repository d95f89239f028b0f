using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>A set of days of the week, ISO order (Monday first).</summary>
public readonly record struct Weekdays(int Mask)
{
    internal static readonly string[] Names = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

    public static Weekdays Daily { get; } = new(0b111_1111);
    public static Weekdays WorkingWeek { get; } = new(0b001_1111);
    public static Weekdays Weekend { get; } = new(0b110_0000);

    public bool Contains(IsoDayOfWeek day) => (Mask & (1 << ((int)day - 1))) != 0;

    internal bool ContainsDay(int day) => (Mask & (1 << Civil.Weekday(day))) != 0;

    /// <summary>
    /// Reads "daily", "weekdays", "weekends", or a list with ranges such as "mon-fri, sun" ("fri-mon" goes over the weekend).
    /// </summary>
    public static bool TryParse(string word, out Weekdays days)
    {
        days = word.ToLowerInvariant() switch
        {
            "daily" => Daily,
            "weekdays" => WorkingWeek,
            "weekends" => Weekend,
            _ => new Weekdays(NamedSet.Read(word, Names)),
        };
        return days.Mask != 0;
    }

    public override string ToString() =>
        this == Daily ? "daily"
        : this == WorkingWeek ? "weekdays"
        : this == Weekend ? "weekends"
        : NamedSet.Write(Mask, Names);
}
