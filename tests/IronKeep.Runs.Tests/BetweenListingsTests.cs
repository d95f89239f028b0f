using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Tests;

/// <summary>What another does between two looks of one who tends or reads the store.</summary>
public sealed class BetweenListingsTests : IDisposable
{
    private readonly Keep keep = new();

    public void Dispose() => keep.Dispose();

    private int Packs => Directory.EnumerateFiles(keep.StoreFolder + "/packs", "*", SearchOption.AllDirectories).Count();

    [Fact]
    public async Task A_reclaimer_whose_lease_was_taken_away_removes_no_pack()
    {
        keep.Write("a", "1");
        var copy = await keep.BackUp();
        keep.Store.MoveToBin(copy.Id, DateTimeOffset.UtcNow.AddDays(-1));
        var place = new HookedPlace(new FolderPlace(keep.StoreFolder));
        using var store = PooledStore.Open(place, Keep.Secret);
        var before = Packs;
        place.Listed = folder =>
        {
            // The list of what is to go lies there; another takes the holder for dead.
            if (folder != "copies" || Directory.GetFiles(keep.StoreFolder, "*.list", SearchOption.AllDirectories).Length == 0)
                return;
            foreach (var lease in Directory.GetFiles(keep.StoreFolder + "/leases"))
                File.Delete(lease);
        };
        var lost = Assert.Throws<PlaceException>(() => Reclaim.Run(store, DateTimeOffset.UtcNow));
        Assert.Contains("lease", lost.Message);
        Assert.Equal(before, Packs);
        place.Listed = null;
        Assert.True(Reclaim.Run(store, DateTimeOffset.UtcNow).PacksRemoved > 0);
    }

    [Fact]
    public async Task A_pack_that_is_said_to_leave_after_it_was_listed_is_not_counted_on()
    {
        keep.Write("a", "1");
        await keep.BackUp();
        var place = new HookedPlace(new FolderPlace(keep.StoreFolder));
        using var store = PooledStore.Open(place, Keep.Secret);
        var packs = store.PackSizes().Keys.ToList();
        Assert.NotEmpty(store.Index.Staying);
        place.AfterListing = () => LeavingList.Of(packs).Write(keep.Place);
        store.Refresh();
        Assert.Empty(store.Index.Staying);
    }

    [Fact]
    public async Task A_copy_that_is_taken_back_between_the_listings_is_seen_in_force()
    {
        keep.Write("a", "1");
        var copy = await keep.BackUp();
        keep.Write("a", "2");
        var other = await keep.BackUp();
        foreach (
            var look in (Func<PooledStore, IEnumerable<string>>[])
                [s => s.ReadContents().Copies.Select(c => c.Record.Id), s => s.Records.Names().InForce]
        )
        {
            keep.Store.MoveToBin(copy.Id, DateTimeOffset.UtcNow);
            var place = new HookedPlace(new FolderPlace(keep.StoreFolder));
            using var store = PooledStore.Open(place, Keep.Secret);
            var once = false;
            place.Listed = folder =>
            {
                // Out of the bin after its folder of copies was listed and before the bin is.
                if (folder == "copies" && !once)
                    (once, _) = (true, keep.Store.TakeBack(copy.Id, DateTimeOffset.UtcNow));
            };
            Assert.Equal([copy.Id, other.Id], look(store).Order());
            Assert.True(once);
        }
    }

    [Fact]
    public async Task A_copy_that_went_to_the_bin_was_said_to_before_it_moved()
    {
        keep.Write("a", "1");
        var copy = await keep.BackUp();
        var (moved, noted) = (false, false);
        var place = new HookedPlace(new FolderPlace(keep.StoreFolder))
        {
            Moves = to =>
            {
                moved |= to.StartsWith("bin/", StringComparison.Ordinal);
                if (moved && !noted)
                    noted = keep.Store.Records.ReadNote(copy.Id) is { Binned: not null };
            },
        };
        using var store = PooledStore.Open(place, Keep.Secret);
        Assert.True(store.MoveToBin(copy.Id, DateTimeOffset.UtcNow));
        Assert.True(moved && noted);
        // A note under another copy's name says nothing about it.
        var other = await keep.BackUp();
        var notes = Directory.GetFiles(keep.StoreFolder, "*.note", SearchOption.AllDirectories);
        File.Copy(notes.Single(), Path.Combine(Path.GetDirectoryName(notes[0])!, other.Id + ".note"));
        Assert.Null(keep.Store.Records.ReadNote(other.Id));
    }
}
