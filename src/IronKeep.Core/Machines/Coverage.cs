using System.Collections.Immutable;
using IronKeep.Core.Charters;

namespace IronKeep.Core.Machines;

/// <summary>How a machine is protected; each is in exactly one of these. Source: docs/semantics.md, section 13 (Coverage).</summary>
public enum Coverage
{
    /// <summary>Each of its jobs is as fresh as it promises, and none of them fails.</summary>
    Covered,

    /// <summary>A job of it is stale, fails, or has not made its first copy.</summary>
    Late,

    /// <summary>A person has paused a job of it, and nothing else is wrong.</summary>
    Paused,

    /// <summary>No job takes it.</summary>
    Uncovered,

    /// <summary>No job takes it, and a person has named or described it as an exception.</summary>
    Excepted,

    /// <summary>Its agent was not heard of for longer than its charter allows.</summary>
    Silent,

    /// <summary>It is at work no longer; its copies are kept until a day.</summary>
    Retired,
}

/// <summary>
/// A job of a machine, as far as coverage goes: why it is late, as a sentence ("has no copy yet"), and who has paused it until when, as the
/// end of one ("by maud until …"); null: it is not.
/// </summary>
public sealed record CoveredJob(string Job, string? Late, string? Paused);

/// <summary>Into which class a machine falls, and why, as the end of a sentence about it.</summary>
public sealed record MachineCoverage(Coverage Class, string Why)
{
    /// <summary>Whether somebody should look: what protects it is not at work, or there is nothing.</summary>
    public bool IsBad => IsBadClass(Class);

    public static bool IsBadClass(Coverage c) => c is Coverage.Late or Coverage.Uncovered or Coverage.Excepted or Coverage.Silent;

    /// <summary>
    /// The class of a machine. What is retired needs nothing; without a job nothing else matters; whoever is silent is not protected,
    /// whatever its jobs say.
    /// </summary>
    /// <param name="charter">The charter in force.</param>
    /// <param name="machine">The machine's name; the charter need not have it.</param>
    /// <param name="silentSince">Since when its agent is silent, in words; null: it is not.</param>
    /// <param name="jobs">Its jobs, one for each that takes it.</param>
    public static MachineCoverage Of(Charter charter, string machine, string? silentSince, IReadOnlyList<CoveredJob> jobs)
    {
        var declared = charter.Machines.GetValueOrDefault(machine);
        if (declared?.Retired is { } retired)
            return new(Coverage.Retired, $"its copies are kept until {retired.Days.CopiesUntil}");
        if (jobs.Count == 0)
        {
            var excepting = charter
                .Jobs.Values.Where(j => j.Selection.Excepts(declared ?? new MachineDefinition(machine, null, null)))
                .Select(j => j.Name)
                .ToImmutableArray();
            return excepting.IsEmpty
                ? new(Coverage.Uncovered, declared is null ? "no job takes it, and the charter does not declare it" : "no job takes it")
                : new(Coverage.Excepted, $"job {excepting[0]} leaves it out, and no other takes it");
        }
        if (silentSince is not null)
            return new(Coverage.Silent, $"its agent has not been heard of since {silentSince}");
        if (First(jobs, j => j.Late) is { } late)
            return new(Coverage.Late, late);
        if (First(jobs, j => j.Paused is { } by ? $"is paused {by}" : null) is { } paused)
            return new(Coverage.Paused, paused);
        return new(Coverage.Covered, jobs.Count == 1 ? $"job {jobs[0].Job} protects it" : $"{jobs.Count} jobs protect it");
    }

    /// <summary>What is said of the first job of which anything is, and of how many others as well.</summary>
    private static string? First(IReadOnlyList<CoveredJob> jobs, Func<CoveredJob, string?> of)
    {
        var found = jobs.Where(j => of(j) is not null).ToList();
        return found.Count == 0
            ? null
            : $"job {found[0].Job} {of(found[0])}" + (found.Count == 1 ? "" : $", and {found.Count - 1} more of its jobs");
    }
}
