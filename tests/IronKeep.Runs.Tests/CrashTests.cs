using System.Security.Cryptography;
using IronKeep.Stores;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Tests;

/// <summary>
/// Runs, prunes and reclaims that break down at a random change, hundreds of times over one store; the law holds after each.
/// IRONKEEP_BREAKDOWNS sets the number for a longer night.
/// </summary>
public sealed class CrashTests : IDisposable
{
    private static readonly int Rounds = int.Parse(
        Environment.GetEnvironmentVariable("IRONKEEP_BREAKDOWNS") ?? "200",
        System.Globalization.CultureInfo.InvariantCulture
    );
    private readonly Keep keep = new();
    private readonly Dictionary<string, string> promised = [];

    public void Dispose() => keep.Dispose();

    [Fact]
    public async Task Whatever_breaks_every_copy_reported_ok_restores_exactly()
    {
        var seed = Environment.TickCount;
        var random = new Random(seed);
        CopyRecord? previous = null;
        var broken = 0;
        for (var round = 0; round < Rounds; round++)
        {
            var where = $"seed {seed}, round {round}";
            var place = new BreakingPlace(keep.StoreFolder, random.Next(1, 14), random.Next(BreakingPlace.Ways));
            keep.Reopen();
            LetLeasesRunOut();
            keep.Place = place;
            Change(random);
            try
            {
                previous = await Act(random.Next(4), previous, random);
            }
            catch (Exception e) when (e is PlaceException or RunFailedException or StoreDamageException)
            {
                Assert.True(place.Broken, $"{where}: failed without a breakdown: {e}");
            }
            if (place.Broken)
                broken++;
            if (round % 5 == 4 || round == Rounds - 1)
                CheckLaw(where);
        }
        Assert.InRange(broken, Rounds / 10, Rounds);
        // Remnants of the breakdowns are gone, and what nothing needs can be reclaimed.
        keep.Reopen();
        LetLeasesRunOut();
        keep.Place = new FolderPlace(keep.StoreFolder);
        using (var store = PooledStore.Open(keep.Place, Keep.Secret, new LeaseTerms(TimeSpan.FromSeconds(1))))
        {
            foreach (var part in Directory.EnumerateFiles(keep.StoreFolder + "/work"))
                File.SetLastWriteTimeUtc(part, DateTime.UnixEpoch);
            Reclaim.Run(store, DateTimeOffset.MaxValue.AddYears(-1));
        }
        Assert.Empty(Directory.EnumerateFiles(keep.StoreFolder + "/work"));
        Assert.False(Directory.Exists(keep.StoreFolder + "/leaving") && Directory.EnumerateFiles(keep.StoreFolder + "/leaving").Any());
        CheckLaw($"seed {seed}, at the end");
    }

    private async Task<CopyRecord?> Act(int what, CopyRecord? previous, Random random)
    {
        if (what < 2)
        {
            var now = Fingerprint(keep.Source);
            var copy = await keep.BackUp(previous);
            promised[copy.Id] = now;
            return copy;
        }
        if (what == 2)
        {
            var all = keep.Store.ReadContents().Copies.Where(c => c.Binned is null).Select(c => c.Record.Id).ToList();
            if (all.Count <= 3)
                return previous;
            var going = all[random.Next(all.Count - 1)];
            binnedOnce.Add(going);
            keep.Store.MoveToBin(going, DateTimeOffset.UtcNow.AddDays(-10));
        }
        else
        {
            var report = Reclaim.Run(keep.Store, DateTimeOffset.UtcNow.AddDays(-7));
            foreach (var id in report.CopiesGone)
                promised.Remove(id);
        }
        return previous;
    }

    /// <summary>As if their time had come: a dead holder's lease is removed when it is over.</summary>
    private void LetLeasesRunOut()
    {
        if (!Directory.Exists(keep.StoreFolder + "/leases"))
            return;
        foreach (var lease in Directory.EnumerateFiles(keep.StoreFolder + "/leases"))
            File.Delete(lease);
    }

    private void CheckLaw(string where)
    {
        keep.Reopen();
        LetLeasesRunOut();
        keep.Place = new FolderPlace(keep.StoreFolder);
        var report = StoreCheck.Run(keep.Store);
        Assert.True(
            report.Sound,
            $"{where}: {string.Join("; ", report.Damage.Select(d => d.Problem))} "
                + $"{string.Join("; ", report.Copies.Select(c => c.CopyId + " " + c.Paths[0]))}"
        );
        var contents = keep.Store.ReadContents();
        Assert.Empty(contents.Damaged);
        var there = contents.Copies.ToDictionary(c => c.Record.Id);
        foreach (var (id, expected) in promised.ToList())
        {
            // A reclaim that broke down may have taken a copy whose time in the bin was over; nothing else may be gone.
            if (!there.TryGetValue(id, out var copy))
            {
                Assert.Contains(id, binnedOnce);
                promised.Remove(id);
                continue;
            }
            var (folder, restored) = keep.Restore(copy.Record);
            Assert.Empty(restored.Problems);
            Assert.True(expected == Fingerprint(folder), $"{where}: copy {id} came back different");
        }
    }

    private readonly HashSet<string> binnedOnce = [];

    private void Change(Random random)
    {
        for (var i = 0; i < 3; i++)
        {
            var content = new byte[random.Next(10, 90_000)];
            random.NextBytes(content);
            keep.Write($"{random.Next(4)}/{random.Next(12)}", content);
        }
    }

    private static string Fingerprint(string folder)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (var file in Directory.EnumerateFiles(folder, "*", SearchOption.AllDirectories).Order(StringComparer.Ordinal))
        {
            hash.AppendData(System.Text.Encoding.UTF8.GetBytes(Path.GetRelativePath(folder, file)));
            hash.AppendData(File.ReadAllBytes(file));
        }
        return Convert.ToHexString(hash.GetHashAndReset());
    }
}
