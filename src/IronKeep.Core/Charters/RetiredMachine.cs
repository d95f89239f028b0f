using IronKeep.Core.Schedules;
using NodaTime;

namespace IronKeep.Core.Charters;

/// <summary>
/// What becomes of the copies of a machine that is retired: kept until a day, none of them expiring meanwhile; <paramref
/// name="CopiesOwner"/> says by <paramref name="DecideBy"/> what is then done with them. Days are in the charter's zone.
/// </summary>
public sealed record RetiredMachine(LocalDate Since, LocalDate CopiesUntil, string CopiesOwner, LocalDate DecideBy)
{
    /// <summary>The days as a charter writes them: 2027-12-01.</summary>
    public (string CopiesUntil, string DecideBy) Days => (SentenceWords.Date(CopiesUntil), SentenceWords.Date(DecideBy));

    private static readonly string[] Keys = ["copies-until", "copies-owner", "decide-by"];

    internal static RetiredMachine? Read(MapReader map, ValueReader read)
    {
        if (map.Scalar("retired") is not { } retired)
        {
            foreach (var key in Keys)
                if (map.Any(key) is { } odd)
                    read.Wrong(odd, $"'{key}' goes with 'retired: DATE', a machine that is no longer at work; add it, or take this out");
            return null;
        }
        var until = Date(map.Required("copies-until", "say until when its copies are kept: 'copies-until: 2028-01-31'"));
        var owner = map.Required("copies-owner", "say who decides about its copies: 'copies-owner: maud'");
        var decide = Date(map.Required("decide-by", "say by when that is decided: 'decide-by: 2027-12-01'"));
        if (until is { } last && decide is { } day && day > last)
            read.Wrong(
                map.Scalar("decide-by")!,
                $"{SentenceWords.Date(day)} is after {SentenceWords.Date(last)}, until when the copies are kept; decide before that"
            );
        return Date(retired) is { } since && until is not null && owner is not null && decide is not null
            ? new RetiredMachine(since, until.Value, ReportReader.Name(owner, read, "an owner") ?? "", decide.Value)
            : null;

        LocalDate? Date(ScalarNode? node)
        {
            if (node is null)
                return null;
            if (SentenceWords.TryDate(node.Value, out var date, out var problem))
                return date;
            read.Wrong(node, problem!);
            return null;
        }
    }
}
