using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Stores.Tests;

/// <summary>A lease as its holder and others see it; the timer's work is done by hand.</summary>
public sealed class LeaseTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("lease-").FullName;
    private readonly LeaseTerms terms = new(TimeSpan.FromHours(1));

    public void Dispose() => Directory.Delete(folder, true);

    private FolderPlace Place => new(folder);

    [Fact]
    public void A_lease_is_renewed_until_it_is_taken_away_and_then_stays_away()
    {
        using var lease = Lease.Take(Place, LeaseKind.Writing, terms);
        var first = Assert.Single(Lease.Living(Place)).Until;
        lease.TryRenew();
        var second = Assert.Single(Lease.Living(Place)).Until;
        Assert.True(second > first);
        lease.Prove();

        // Whoever tends the store takes the holder for dead.
        Place.Delete(
            Directory.EnumerateFiles(folder, "*.lease", SearchOption.AllDirectories).Select(f => Path.GetRelativePath(folder, f)).Single()
        );
        lease.TryRenew();
        Assert.Empty(Lease.Living(Place));
        Assert.Contains("was lost", Assert.Throws<PlaceException>(lease.Prove).Message);
    }

    [Fact]
    public void A_lease_that_ran_out_is_neither_renewed_nor_proven_although_its_note_is_there()
    {
        using var lease = Lease.Take(Place, LeaseKind.Writing, new LeaseTerms(TimeSpan.FromTicks(1)));
        Assert.Contains("was lost", Assert.Throws<PlaceException>(lease.Prove).Message);
        lease.TryRenew();
        Assert.Throws<PlaceException>(lease.Prove);
        Assert.Empty(Lease.Living(Place));
    }

    [Fact]
    public void One_tends_at_a_time_beside_any_number_who_write()
    {
        using var writes = Lease.Take(Place, LeaseKind.Writing, terms);
        using var tends = Lease.Take(Place, LeaseKind.Tending, terms);
        using var alsoWrites = Lease.Take(Place, LeaseKind.Writing, terms);
        var refused = Assert.Throws<PlaceException>(() => Lease.Take(Place, LeaseKind.Tending, terms));
        Assert.Equal(PlaceFault.InUse, refused.Fault);
        Assert.Equal(3, Lease.Living(Place).Count);
        tends.Dispose();
        Lease.Take(Place, LeaseKind.Tending, terms).Dispose();
    }
}
