using IronKeep.Stores.Sessions;

namespace IronKeep.Stores.Pooled;

/// <summary>A pooled store as a place where copies are written.</summary>
public sealed partial class PooledStore : ICopyTarget
{
    ICopySession ICopyTarget.BeginCopy(int level) => BeginWriting(level);

    void ICopyTarget.Tidy(CancellationToken cancel) => SmallPacks.Join(this, cancel);

    string? ICopyTarget.GiveBack(ICopySession session)
    {
        var packs = ((WritingSession)session).Published;
        return packs.Count == 0
            ? null
            : $"{Reclaim.GiveBack(this, packs, CancellationToken.None)} of {packs.Count} packs that this run stored were given back";
    }
}
