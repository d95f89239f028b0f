using System.Collections.Immutable;
using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>What happens to a local time that the zone leaves out, or shows twice.</summary>
internal enum GapRule
{
    /// <summary>Left out: the first instant after the gap. Twice: the first.</summary>
    Clock,

    /// <summary>Left out: not due. Twice: due both times.</summary>
    Grid,

    /// <summary>Left out: by the offset before the gap. Twice: the first. Source: RFC 5545, section 3.3.5.</summary>
    Standard,
}

/// <summary>
/// When a job is due, in local words. A schedule has no zone of its own: the job brings it. Four kinds exist: clock times on
/// certain dates, a grid of intervals, crontab fields, and a recurrence rule. Equality is by meaning, so "mon-fri" equals "weekdays".
/// </summary>
public abstract record Schedule
{
    /// <summary>The schedule in the form that <see cref="ScheduleText.Read"/> reads back to an equal schedule.</summary>
    public abstract string ToSentence();

    /// <summary>The schedule in plain words, whatever form it was given in.</summary>
    public virtual string Words => ToSentence();

    /// <summary>What a reader should know that the words do not say, such as how many months have no day 31; usually nothing.</summary>
    public virtual ImmutableArray<string> Remarks => [];

    /// <summary>The zone that a recurrence rule names for itself; it must be the job's. Null: none, as with every other schedule.</summary>
    public virtual string? NamedZone => null;

    internal abstract GapRule Gaps { get; }

    /// <summary>The first and last local date on which anything can be due, as day numbers.</summary>
    internal virtual (int First, int Last) Reach => (int.MinValue, int.MaxValue);

    /// <summary>The last instant at which anything can be due, for a rule that ends at one.</summary>
    internal virtual Instant? End => null;

    /// <summary>Reads the schedule date by date. The reader may remember things and is used by one thread.</summary>
    internal abstract DayTimes Open(ClosedDays? closed);

    public sealed override string ToString() => ToSentence();

    /// <summary>How far ahead a due instant is looked for: a fifth Monday in February can be 40 years away.</summary>
    internal const int YearsToLook = 45;

    /// <summary>Whether any local date has a time at all.</summary>
    internal bool IsEverDue(ClosedDays? closed = null)
    {
        var times = Open(closed);
        var first = Math.Max(Reach.First, Civil.ToDay(2001, 1, 1));
        var last = (int)Math.Min(Math.Min((long)Reach.Last, first + YearsToLook * 366L), Civil.LastDay);
        for (var day = first; day <= last; day++)
            if (times.On(day).Length > 0)
                return true;
        return false;
    }
}

/// <summary>The local times of one date after another.</summary>
internal abstract class DayTimes
{
    /// <summary>The minutes of the day at which something is due on this date, ascending. Not to be written to.</summary>
    public abstract int[] On(int day);
}

/// <summary>What limits a sentence: the first date, the last date, and dates left out. All local, all inclusive.</summary>
public sealed record ScheduleTail(LocalDate? From, LocalDate? Until, ImmutableArray<LocalDate> Except)
{
    public static ScheduleTail None { get; } = new(null, null, []);

    private readonly int first = From is { } f ? Civil.ToDay(f) : int.MinValue;
    private readonly int last = Until is { } u ? Civil.ToDay(u) : int.MaxValue;
    private readonly HashSet<int>? left = Except.Length == 0 ? null : [.. Except.Select(Civil.ToDay)];

    internal (int First, int Last) Reach => (first, last);

    internal bool Allows(int day) => day >= first && day <= last && left?.Contains(day) != true;

    public bool Equals(ScheduleTail? other) =>
        other is not null && From == other.From && Until == other.Until && Except.SequenceEqual(other.Except);

    public override int GetHashCode() => HashCode.Combine(From, Until, Except.Length);

    public override string ToString() =>
        (From is { } from ? $" from {SentenceWords.Date(from)}" : "")
        + (Until is { } until ? $" until {SentenceWords.Date(until)}" : "")
        + (Except.Length == 0 ? "" : $" except {string.Join(",", Except.Select(SentenceWords.Date))}");
}
