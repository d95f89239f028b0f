using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Charters;
using IronKeep.Service.Facts;
using IronKeep.Service.Stores;

namespace IronKeep.Service.Upkeep;

/// <summary>Looks at the room of a store after something was stored in it, or given free.</summary>
public sealed class RoomLook(CharterInForce inForce, StoreRoom room) : IOutsideFollower
{
    public string Name => "room";
    public IReadOnlyCollection<FactKind> Follows { get; } = [FactKind.RunEnded];

    public async Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel)
    {
        var charter = inForce.Charter;
        var names = facts
            .SelectMany(f => f.Store is { } one ? [one] : charter.Placed.Find(f.Job, f.Machine)?.Into.AsEnumerable() ?? [])
            .Distinct();
        await Task.WhenAll(names.Where(charter.Stores.ContainsKey).Select(n => room.JudgeAsync(charter.Stores[n], cancel)));
    }
}
