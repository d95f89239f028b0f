using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Facts;
using Microsoft.EntityFrameworkCore;

namespace IronKeep.Service.Events;

/// <summary>Tells open pages what facts mean for them.</summary>
public sealed class LiveNews(EventHub events) : IOutsideFollower
{
    public string Name => "live-news";
    public IReadOnlyCollection<FactKind> Follows { get; } =
    [FactKind.RunEnded, FactKind.CopyMade, FactKind.CopyGone, FactKind.AlertChanged, FactKind.CharterApplied, FactKind.MachineRenamed];

    public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        foreach (var topic in facts.Select(TopicOf).OfType<Topic>().Distinct())
            events.Publish(topic);
        // What follows from a run's end has been done by now.
        var ids = facts.Where(f => f.Kind == FactKind.RunEnded).Select(f => f.RunId).ToList();
        if (events.IsHeard && ids.Count > 0)
            foreach (var run in await db.Runs.AsNoTracking().Where(r => ids.Contains(r.Id)).OrderBy(r => r.Id).ToListAsync(cancel))
                events.Here(run);
    }

    private static Topic? TopicOf(Fact fact) =>
        fact.Kind switch
        {
            FactKind.CopyMade or FactKind.CopyGone => Topic.Copies,
            FactKind.AlertChanged => Topic.Alert,
            FactKind.CharterApplied or FactKind.MachineRenamed => Topic.Charter,
            FactKind.RunEnded when fact.Store is not null || fact.Job is not null => Topic.Copies,
            _ => null,
        };
}
