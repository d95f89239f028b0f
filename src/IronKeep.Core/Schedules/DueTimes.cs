using System.Collections.Immutable;
using System.Text;
using IronKeep.Core.Quantities;
using NodaTime;

namespace IronKeep.Core.Schedules;

/// <summary>What happens to a due instant that falls into quiet hours or on a closed day: it moves to the end, or is dropped.</summary>
public enum WindowRule
{
    Shift,
    Drop,
}

/// <summary>
/// One due instant. <paramref name="At"/> is when the run is due in the end; <paramref name="Named"/> what the schedule itself
/// gives; they differ where the run is spread or shifted. <paramref name="Why"/> says so in words; for one that is dropped it says
/// what dropped it.
/// </summary>
public sealed record Due(Instant At, Instant Named, bool Dropped, string? Why);

/// <summary>
/// When a job on a machine is due in the end: its schedule in its zone, spread by a stable hash, moved out of quiet hours and
/// closed days or dropped there. Instants that come to the same moment are one. Source: docs/semantics.md, section 1 (Schedules).
/// </summary>
public sealed record DueTimes(Schedule Schedule, DateTimeZone Zone)
{
    /// <summary>The calendar of closed days, for working days and for <see cref="WhenClosed"/>; null: none.</summary>
    public ClosedDays? Closed { get; init; }

    /// <summary>What a closed day does to a run; null: nothing, the calendar is for working days only.</summary>
    public WindowRule? WhenClosed { get; init; }
    public ImmutableArray<QuietHours> Quiet { get; init; } = [];
    public WindowRule WhenQuiet { get; init; }

    /// <summary>How much later than named every instant is; see <see cref="SpreadOf"/>.</summary>
    public Duration Spread { get; init; }

    private const int MostSteps = 800;
    private const string Together = "several due instants come to one moment; ";

    private bool HasWindows => Quiet.Length > 0 || (WhenClosed is not null && Closed is not null);

    /// <summary>
    /// The share of a spread window that a job on a machine has, in whole minutes: a stable hash of the two names, never at random.
    /// </summary>
    public static Duration SpreadOf(string job, string machine, Span? window)
    {
        var minutes = (long)(window?.ToDuration().TotalMinutes ?? 0);
        if (minutes <= 1)
            return Duration.Zero;
        // FNV-1a over both names, then mixed, so that names that differ in one letter land far apart.
        var hash = 14_695_981_039_346_656_037UL;
        foreach (var b in Encoding.UTF8.GetBytes($"{job}\n{machine}"))
            hash = (hash ^ b) * 1_099_511_628_211UL;
        hash = (hash ^ (hash >> 33)) * 0xFF51AFD7ED558CCDUL;
        hash = (hash ^ (hash >> 33)) * 0xC4CEB9FE1A85EC53UL;
        return Duration.FromMinutes((long)((hash ^ (hash >> 33)) % (ulong)minutes));
    }

    /// <summary>
    /// The instants at which a run is due, strictly after <paramref name="after"/>, up to and including <paramref name="upTo"/>.
    /// </summary>
    public IEnumerable<Instant> Between(Instant after, Instant upTo)
    {
        if (HasWindows)
            return All(after, upTo).Where(d => !d.Dropped).Select(d => d.At);
        return Spread == Duration.Zero
            ? DueInstants.Between(Schedule, Zone, after, upTo, Closed)
            : DueInstants.Between(Schedule, Zone, after - Spread, upTo - Spread, Closed).Select(i => i + Spread);
    }

    /// <summary>
    /// The first instant at which a run is due strictly after <paramref name="asOf"/>; null when none comes within 45 years.
    /// </summary>
    public Instant? Next(Instant asOf)
    {
        foreach (var instant in Between(asOf, asOf + Duration.FromDays(Schedule.YearsToLook * 366)))
            return instant;
        return null;
    }

    /// <summary>
    /// The same with what was dropped (at the instant at which it would have been due), each with what there is to say about it.
    /// Ascending.
    /// </summary>
    public IEnumerable<Due> All(Instant after, Instant upTo)
    {
        // What is due at the end of a window was named inside it, before "after".
        var from = StartOfWindow(after) - Spread;
        Due? waiting = null;
        foreach (var named in DueInstants.Between(Schedule, Zone, from, upTo - Spread, Closed))
        {
            var due = Settle(named);
            if (due.At <= after || due.At > upTo)
                continue;
            if (waiting is not null && waiting.At < due.At)
            {
                yield return waiting;
                waiting = null;
            }
            if (due.Dropped)
                yield return due;
            // Those that a window moves to one moment are one due instant; the last named stands for them.
            else
                waiting = waiting is null
                    ? due
                    : due with
                    {
                        Why = Together + (due.Why ?? waiting.Why?.Replace(Together, "", StringComparison.Ordinal)),
                    };
        }
        if (waiting is not null)
            yield return waiting;
    }

    private Due Settle(Instant named)
    {
        var at = named + Spread;
        var why = new List<string>();
        if (DueInstants.Note(Schedule, Zone, named, Closed) is { } note)
            why.Add(note);
        if (Spread > Duration.Zero)
            why.Add($"spread by {Spread.TotalMinutes:0} minutes");
        for (var step = 0; step < MostSteps; step++)
        {
            if (WindowAround(at) is not { } window)
                return new Due(at, named, false, why.Count == 0 ? null : string.Join("; ", why));
            if (window.Rule == WindowRule.Drop)
                return new Due(at, named, true, $"dropped: {window.Name}");
            if (why.Count == 0 || !why[^1].EndsWith(window.Name, StringComparison.Ordinal))
                why.Add($"shifted by {window.Name}");
            at = window.End;
        }
        return new Due(at, named, true, "dropped: no open time within two years");
    }

    /// <summary>The first instant of the unbroken windows around an instant, or the instant itself.</summary>
    private Instant StartOfWindow(Instant instant)
    {
        if (WindowAround(instant) is not { } window)
            return instant;
        for (var step = 0; step < MostSteps && WindowAround(window.Start - Duration.FromSeconds(1)) is { } before; step++)
            window = before;
        return window.Start - Duration.FromSeconds(1);
    }

    /// <summary>The window that an instant lies in, with what it does; closed days go before quiet hours.</summary>
    public (Instant Start, Instant End, WindowRule Rule, string Name)? WindowAround(Instant instant)
    {
        if (WhenClosed is { } rule && Closed is not null)
        {
            var date = instant.InZone(Zone).Date;
            if (Closed.IsClosed(date))
                return (
                    Zone.AtStartOfDay(date).ToInstant(),
                    Zone.AtStartOfDay(date.PlusDays(1)).ToInstant(),
                    rule,
                    $"the closed day {SentenceWords.Date(date)}"
                );
        }
        foreach (var quiet in Quiet)
            if (quiet.Around(instant, Zone) is { } window)
                return (window.Start, window.End, WhenQuiet, $"the quiet hours {quiet}");
        return null;
    }
}
