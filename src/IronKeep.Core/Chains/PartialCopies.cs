using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Dated;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Chains;

/// <summary>
/// What copies a job makes between its full ones, and when the next full one is due: on the first run on or after a day of
/// <paramref name="Full"/>, and before a chain has more than <paramref name="Longest"/> copies or its full one is older than
/// <paramref name="Oldest"/>. At least one of the three is said. Source: docs/semantics.md, section 11 (Plain archives).
/// </summary>
public sealed record PartialCopies(CopyKind Kind, DayRule? Full, int? Longest, Span? Oldest)
{
    /// <summary>A chain is never longer, whatever is said: each copy in it must be there for the next to be worth anything.</summary>
    public const int MostInChain = 1000;

    /// <summary>In words: what is made, and when the next full one is.</summary>
    public string Words =>
        $"{(Kind == CopyKind.Incremental ? "incremental" : "differential")}; full "
        + string.Join(
            " or ",
            new[]
            {
                Full?.ToString(),
                Longest is { } longest ? $"after {longest} in a chain" : null,
                Oldest is { } oldest ? $"after {oldest}" : null,
            }.OfType<string>()
        );

    /// <summary>
    /// How the next copy of a job is to be made, of the copies that are there: those of one job on one machine in one store, of which each
    /// <see cref="ChainCopy.IsSound"/> only with its whole chain.
    /// </summary>
    public static NextCopy Next(
        PartialCopies? rules,
        IEnumerable<ChainCopy> copies,
        Instant now,
        DateTimeZone zone,
        ClosedDays? closed = null,
        string? askedBy = null
    )
    {
        if (rules is null)
            return new NextCopy(CopyKind.Full, null, "the job makes full copies only");
        var sound = copies
            .Where(c => c.IsSound && c.Taken <= now)
            .OrderByDescending(c => c.Taken)
            .ThenByDescending(c => c.Id, StringComparer.Ordinal)
            .ToList();
        if (sound.Find(c => c.Kind == CopyKind.Full) is not { } full)
            return Full("there is no sound full copy to stand on");
        if (askedBy is not null)
            return Full($"{askedBy} asked for it");
        var (today, last) = (now.InZone(zone).Date, full.Taken.InZone(zone).Date);
        if (rules.Full is { } days && DueSince(days, last, today, closed) is { } due)
            return Full(due == today ? $"today is {days}" : $"{due:uuuu-MM-dd} was {days}, and none was made since");
        var chain = ChainOf(full, sound);
        if (chain.Count >= Math.Min(rules.Longest ?? MostInChain, MostInChain))
            return Full($"the chain has {chain.Count} copies, and is to have no more");
        if (rules.Oldest is { } oldest && oldest.After(full.Taken, zone) <= now)
            return Full($"the full copy is of {last:uuuu-MM-dd}, older than {oldest}");
        var below = rules.Kind == CopyKind.Differential ? full : chain.MaxBy(c => c.Taken)!;
        return new NextCopy(
            rules.Kind,
            below.Id,
            string.Create(CultureInfo.InvariantCulture, $"number {chain.Count + 1} of its chain, on top of {below.Id}")
        );

        static NextCopy Full(string why) => new(CopyKind.Full, null, why);
    }

    /// <summary>The latest day of the rule after the last full copy was taken, up to today; null when there is none.</summary>
    private static LocalDate? DueSince(DayRule days, LocalDate last, LocalDate today, ClosedDays? closed)
    {
        // Rules come back within four years, 29 February among them.
        var earliest = LocalDate.Max(last, today.PlusDays(-1500));
        for (var date = today; date > earliest; date = date.PlusDays(-1))
            if (days.Includes(date, closed))
                return date;
        return null;
    }

    /// <summary>A full copy and all that stand on it, directly or not.</summary>
    private static List<ChainCopy> ChainOf(ChainCopy full, List<ChainCopy> sound)
    {
        var (chain, ids) = (new List<ChainCopy> { full }, new HashSet<string> { full.Id });
        foreach (var copy in sound.OrderBy(c => c.Taken).ThenBy(c => c.Id, StringComparer.Ordinal))
            if (copy.Base is { } below && ids.Contains(below))
            {
                ids.Add(copy.Id);
                chain.Add(copy);
            }
        return chain;
    }
}

/// <summary>A copy as the chain sees it.</summary>
public sealed record ChainCopy(string Id, CopyKind Kind, string? Base, Instant Taken, bool IsSound);

/// <summary>How the next copy is made, on which it stands (null: on none), and why.</summary>
public sealed record NextCopy(CopyKind Kind, string? Base, string Why);
