using System.Collections.Immutable;
using IronKeep.Core.Machines;

namespace IronKeep.Core.Charters;

/// <summary>A job on one machine that it is on, with the values that hold there.</summary>
public sealed record PlacedJob : JobDefinition
{
    internal PlacedJob(JobDefinition job, string machine)
        : base(job) => Machine = machine;

    /// <summary>The machine; the service's own where the job does not say.</summary>
    public string Machine { get; }

    /// <summary>For people: the job, and the machine where it is on several.</summary>
    public string Words => IsOnSeveral ? WordsOn(Name, Machine) : Name;

    /// <summary>A job on one of several machines.</summary>
    public static string WordsOn(string job, string machine) => $"{job} on {machine}";

    /// <summary>The same as one word, for the names of files and keys.</summary>
    public string Key => IsOnSeveral ? $"{Name}@{Machine}" : Name;

    /// <summary>Whether the job can be on other machines too.</summary>
    public bool IsOnSeveral => Selection is { Kind: SelectionKind.Expressed or SelectionKind.Rest } or { Names.Length: > 1 };

    public bool Equals(PlacedJob? other) => other is not null && Machine == other.Machine && base.Equals(other);

    public override int GetHashCode() => HashCode.Combine(Name, Machine);
}

/// <summary>Every job of a charter on every machine that it is on, in order of name, then of machine.</summary>
public sealed class PlacedJobs
{
    private readonly Dictionary<(string Job, string Machine), PlacedJob> byBoth = [];
    private readonly ILookup<string, PlacedJob> byJob,
        byMachine;

    internal PlacedJobs(Charter charter)
    {
        var machines = MachinesOf(charter);
        All =
        [
            .. charter.Jobs.Values.SelectMany(job =>
                machines[job.Name]
                    .Select(m => new PlacedJob(
                        PathVariables.In(charter.Varied.GetValueOrDefault((job.Name, m)) ?? job, charter.Machines.GetValueOrDefault(m), m),
                        m
                    ))
            ),
        ];
        foreach (var job in All)
            byBoth[(job.Name, job.Machine)] = job;
        (byJob, byMachine) = (All.ToLookup(j => j.Name), All.ToLookup(j => j.Machine));
    }

    public ImmutableArray<PlacedJob> All { get; }

    /// <summary>A job on a machine; null where it is not on it, or there is none.</summary>
    public PlacedJob? Find(string? job, string? machine) =>
        job is null || machine is null ? null : byBoth.GetValueOrDefault((job, machine));

    /// <summary>A job on each of its machines.</summary>
    public IEnumerable<PlacedJob> Named(string job) => byJob[job];

    /// <summary>The jobs on a machine.</summary>
    public IEnumerable<PlacedJob> At(string machine) => byMachine[machine];

    /// <summary>
    /// The machines of each job; one that is retired is taken by none. The rest is what no other job of the kind (watched, or carried out)
    /// takes that is not itself on the rest.
    /// </summary>
    private static Dictionary<string, ImmutableArray<string>> MachinesOf(Charter charter)
    {
        var found = new Dictionary<string, ImmutableArray<string>>();
        var atWork = charter.Machines.Values.Where(m => m.Retired is null).ToList();
        foreach (var job in charter.Jobs.Values.Where(j => j.Selection.Kind != SelectionKind.Rest))
            found[job.Name] = job.Selection.Kind switch
            {
                SelectionKind.Own => [charter.Own],
                SelectionKind.Named => [.. job.Selection.Names.Where(IsAtWork).Order(StringComparer.Ordinal)],
                _ => [.. atWork.Where(job.Selection.Takes).Select(m => m.Name)],
            };
        foreach (var kind in charter.Jobs.Values.GroupBy(j => j.Watched))
        {
            var taken = kind.Where(j => found.ContainsKey(j.Name)).SelectMany(j => found[j.Name]).ToHashSet();
            foreach (var job in kind.Where(j => j.Selection.Kind == SelectionKind.Rest))
                found[job.Name] = [.. atWork.Where(m => !taken.Contains(m.Name) && job.Selection.Takes(m)).Select(m => m.Name)];
        }
        return found;

        bool IsAtWork(string machine) => charter.Machines.GetValueOrDefault(machine)?.Retired is null;
    }
}
