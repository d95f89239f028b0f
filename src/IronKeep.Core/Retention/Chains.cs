using IronKeep.Core.Watching;
using NodaTime;

namespace IronKeep.Core.Retention;

/// <summary>What follows from copies needing other copies: a hole anywhere below makes a copy uncounted; what a staying copy needs stays.</summary>
internal static class Chains
{
    /// <summary>The uncounted copies by id, each with the reason.</summary>
    public static Dictionary<string, string> FindUncounted(IReadOnlyList<CopyFacts> all, Dictionary<string, CopyFacts> byId, Instant asOf)
    {
        var judged = new Dictionary<string, string?>(all.Count);
        foreach (var copy in all)
        {
            var path = new List<CopyFacts>();
            string? why = null;
            for (var at = copy; ;)
            {
                if (judged.TryGetValue(at.Id, out why)) break;
                judged[at.Id] = "its chain runs in a circle";
                path.Add(at);
                why = OwnFault(at, asOf);
                if (why is not null || at.Base is null) break;
                if (!byId.TryGetValue(at.Base, out var below))
                {
                    why = $"its base {at.Base} does not exist";
                    break;
                }
                at = below;
            }
            for (var i = path.Count - 1; i >= 0; i--)
            {
                var own = OwnFault(path[i], asOf);
                judged[path[i].Id] = own ?? (why is null || why.StartsWith("its ", StringComparison.Ordinal) ? why : $"its chain has a copy that is uncounted ({why})");
                why = judged[path[i].Id];
            }
        }
        return judged.Where(j => j.Value is not null).ToDictionary(j => j.Key, j => j.Value!);
    }

    /// <summary>For each copy below a staying one: the id of the staying copy nearest above it.</summary>
    public static Dictionary<string, string> FindSupport(IEnumerable<CopyFacts> stays, Dictionary<string, CopyFacts> byId)
    {
        var support = new Dictionary<string, string>();
        foreach (var copy in stays)
        {
            var needed = copy.Base;
            while (needed is not null && byId.TryGetValue(needed, out var below) && support.TryAdd(needed, copy.Id)) needed = below.Base;
        }
        return support;
    }

    private static string? OwnFault(CopyFacts copy, Instant asOf) => copy.State switch
    {
        CopyState.Unsound => "unsound, a check found damage",
        CopyState.Partial => "partial",
        CopyState.Missing => "missing from the store",
        _ when copy.Taken > asOf + RetentionRules.FutureTolerance => "taken in the future",
        _ => null,
    };
}
