using IronKeep.Catalogue;
using IronKeep.Core.Watching;

namespace IronKeep.Service.Facts;

/// <summary>
/// Does what follows from facts, in their order and at least once. What it writes through the context it is given is committed together
/// with its position: all of it or nothing, so it is done once. Nothing but the catalogue may be asked in it.
/// </summary>
public interface IFollower
{
    /// <summary>The name under which the catalogue keeps its position; never given another.</summary>
    string Name { get; }

    IReadOnlyCollection<FactKind> Follows { get; }

    /// <summary>Facts of its kinds, the oldest first. Saves are its own affair; the commit is not.</summary>
    Task FollowAsync(KeepContext db, IReadOnlyList<Fact> facts, CancellationToken cancel);
}

/// <summary>
/// One whose work reaches beyond the catalogue: it is called outside a change, and again for the same facts when a crash came between.
/// </summary>
public interface IOutsideFollower : IFollower;
