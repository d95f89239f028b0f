using System.Collections.Immutable;
using IronKeep.Core.Charters;
using NodaTime;

namespace IronKeep.Core.Ceilings;

/// <summary>What a run holds while it is at work, and what orders it among those that wait.</summary>
public sealed record RunClaim(
    string Job,
    string Machine,
    ImmutableArray<string> Stores,
    ImmutableArray<string> Locks,
    int Importance,
    Instant Due
)
{
    /// <summary>Two claims of one key may start under just the same conditions.</summary>
    public string Key { get; } = string.Join('\n', [Machine, .. Stores, "", .. Locks]);

    /// <summary>The order among those that wait: importance, due instant, name, machine.</summary>
    public static int Order(RunClaim a, RunClaim b) =>
        b.Importance.CompareTo(a.Importance) is var byImportance and not 0 ? byImportance
        : a.Due.CompareTo(b.Due) is var byDue and not 0 ? byDue
        : string.CompareOrdinal(a.Job, b.Job) is var byJob and not 0 ? byJob
        : string.CompareOrdinal(a.Machine, b.Machine);
}

/// <summary>
/// How many runs may be at work at once: overall, on a machine, over a line, into a store, and one for each lock and job. Knows what is
/// at work. The service starts runs by it, and the forecast plays them by it. Source: docs/semantics.md, section 2 (Planned runs,
/// lateness, catch-up).
/// </summary>
public sealed class RunCeilings(
    int overall,
    IReadOnlyDictionary<string, int> ofMachine,
    IReadOnlyDictionary<string, int> ofStore,
    IReadOnlyDictionary<string, int>? ofLine = null,
    SharedLines? lines = null
)
{
    /// <summary>Where there is a ceiling: how many more runs it leaves room for.</summary>
    private readonly Dictionary<string, int> leftOn = new(ofMachine),
        leftInto = new(ofStore),
        leftOver = new(ofLine ?? new Dictionary<string, int>());
    private readonly Dictionary<string, string> lockedBy = [];
    private readonly HashSet<(string Job, string Machine)> jobs = [];

    /// <summary>The ceilings of a charter; <paramref name="overall"/> counts where the charter has no ceiling over all.</summary>
    public static RunCeilings Of(Charter charter, int overall) =>
        new(
            charter.RunsAtOnce ?? overall,
            charter.Machines.Values.Where(m => m.RunsAtOnce is not null).ToDictionary(m => m.Name, m => m.RunsAtOnce!.Value),
            charter.Stores.Values.Where(s => s.RunsAtOnce is not null).ToDictionary(s => s.Name, s => s.RunsAtOnce!.Value),
            charter.Lines.Values.Where(l => l.RunsAtOnce is not null).ToDictionary(l => l.Name, l => l.RunsAtOnce!.Value),
            SharedLines.Of(charter)
        );

    public int AtWork { get; private set; }

    /// <summary>Whether the ceiling over all leaves no room for any run.</summary>
    public bool IsFull => AtWork >= overall;

    /// <summary>Whether a run may start now.</summary>
    public bool CanBegin(RunClaim claim) => Obstacle(claim) == default;

    /// <summary>What a run has to wait for, in words; null when it may start.</summary>
    public string? WaitsFor(RunClaim claim)
    {
        var (kind, name) = Obstacle(claim);
        return kind switch
        {
            Obstacles.None => null,
            Obstacles.Job => $"an earlier run of {name}",
            Obstacles.Overall => $"the ceiling of {overall} at once",
            Obstacles.Machine => $"machine {name}, which has a ceiling of {ofMachine[name!]}",
            Obstacles.Line => $"line {name}, which has a ceiling of {ofLine![name!]}",
            Obstacles.Store => $"store {name}, which has a ceiling of {ofStore[name!]}",
            _ => $"lock {name}, which {lockedBy[name!]} has",
        };
    }

    private enum Obstacles
    {
        None,
        Job,
        Overall,
        Machine,
        Line,
        Store,
        Lock,
    }

    private (Obstacles Kind, string? Name) Obstacle(RunClaim claim)
    {
        if (jobs.Contains((claim.Job, claim.Machine)))
            return (Obstacles.Job, claim.Job);
        if (IsFull)
            return (Obstacles.Overall, null);
        if (leftOn.TryGetValue(claim.Machine, out var there) && there <= 0)
            return (Obstacles.Machine, claim.Machine);
        foreach (var line in lines?.Of(claim.Machine) ?? [])
            if (leftOver.TryGetValue(line.Name, out var free) && free <= 0)
                return (Obstacles.Line, line.Name);
        foreach (var store in claim.Stores)
            if (leftInto.TryGetValue(store, out var room) && room <= 0)
                return (Obstacles.Store, store);
        foreach (var name in claim.Locks)
            if (lockedBy.ContainsKey(name))
                return (Obstacles.Lock, name);
        return default;
    }

    /// <summary>A run begins; whether it may is asked before, and nothing is refused here.</summary>
    public void Begin(RunClaim claim)
    {
        AtWork++;
        jobs.Add((claim.Job, claim.Machine));
        Count(leftOn, claim.Machine, -1);
        foreach (var line in lines?.Of(claim.Machine) ?? [])
            Count(leftOver, line.Name, -1);
        foreach (var store in claim.Stores)
            Count(leftInto, store, -1);
        foreach (var name in claim.Locks)
            lockedBy[name] = claim.Job;
    }

    /// <summary>A run that began with this claim has ended.</summary>
    public void End(RunClaim claim)
    {
        AtWork--;
        jobs.Remove((claim.Job, claim.Machine));
        Count(leftOn, claim.Machine, 1);
        foreach (var line in lines?.Of(claim.Machine) ?? [])
            Count(leftOver, line.Name, 1);
        foreach (var store in claim.Stores)
            Count(leftInto, store, 1);
        foreach (var name in claim.Locks)
            lockedBy.Remove(name);
    }

    private static void Count(Dictionary<string, int> left, string name, int by)
    {
        if (left.TryGetValue(name, out var room))
            left[name] = room + by;
    }
}
