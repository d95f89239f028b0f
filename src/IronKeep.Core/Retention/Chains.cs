using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Retention;

/// <summary>
/// What follows from copies needing other copies, older or newer: a hole anywhere below makes a copy uncounted; what a staying copy
/// needs stays.
/// </summary>
internal sealed class Chains
{
    private readonly Dictionary<string, CopyFacts> byId = [];
    private readonly Dictionary<string, string> uncounted = [];

    public Chains(CopyFacts[] all, Instant asOf)
    {
        Any = Array.Exists(all, c => c.Base is not null);
        if (Any)
            FindUncounted(all, asOf);
        else
        {
            foreach (var copy in all)
                if (OwnFault(copy, asOf) is { } why)
                    uncounted[copy.Id] = why;
        }
    }

    /// <summary>Whether any copy needs another.</summary>
    public bool Any { get; }

    /// <summary>Why a copy does not count; null when it does.</summary>
    public string? WhyUncounted(CopyFacts copy) => uncounted.Count == 0 ? null : uncounted.GetValueOrDefault(copy.Id);

    /// <summary>For each copy below a staying one: the id of the staying copy nearest above it.</summary>
    public Dictionary<string, string> FindSupport(IEnumerable<CopyFacts> stays)
    {
        var support = new Dictionary<string, string>();
        foreach (var copy in stays)
        {
            var needed = copy.Base;
            while (needed is not null && byId.TryGetValue(needed, out var below) && support.TryAdd(needed, copy.Id))
                needed = below.Base;
        }
        return support;
    }

    private void FindUncounted(CopyFacts[] all, Instant asOf)
    {
        foreach (var copy in all)
            byId.Add(copy.Id, copy);
        var judged = new Dictionary<string, string?>(all.Length);
        foreach (var copy in all)
        {
            var path = new List<CopyFacts>();
            string? why = null;
            for (var at = copy; ; )
            {
                if (judged.TryGetValue(at.Id, out why))
                    break;
                judged[at.Id] = "its chain runs in a circle";
                path.Add(at);
                why = OwnFault(at, asOf);
                if (why is not null || at.Base is null)
                    break;
                if (!byId.TryGetValue(at.Base, out var below))
                {
                    why = at.Base == CopyFacts.NoFull ? "its chain begins with no full copy" : $"its base {at.Base} does not exist";
                    break;
                }
                at = below;
            }
            for (var i = path.Count - 1; i >= 0; i--)
            {
                var own = OwnFault(path[i], asOf);
                judged[path[i].Id] = own
                    ?? (
                        why is null || why.StartsWith("its ", StringComparison.Ordinal)
                            ? why
                            : $"its chain has a copy that is uncounted ({why})"
                    );
                why = judged[path[i].Id];
            }
        }
        foreach (var (id, why) in judged)
            if (why is not null)
                uncounted[id] = why;
    }

    private static string? OwnFault(CopyFacts copy, Instant asOf) =>
        copy.State switch
        {
            CopyState.Unsound => "unsound, a check found damage",
            CopyState.Partial => "partial",
            CopyState.Missing => "missing from the store",
            _ when copy.Taken > asOf + RetentionRules.FutureTolerance => "taken in the future",
            _ => null,
        };
}

/// <summary>Which of some copies count: sound or not yet checked, and so is all that they need.</summary>
public static class CopyChains
{
    /// <summary>The ids of those that count. They are all that there are of one job on one machine in one store.</summary>
    public static IReadOnlySet<string> Counted(CopyFacts[] all, Instant asOf)
    {
        var chains = new Chains(all, asOf);
        return all.Where(c => chains.WhyUncounted(c) is null).Select(c => c.Id).ToHashSet();
    }
}
