using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;

namespace IronKeep.Runs.Tests;

/// <summary>A store on a real OpenSSH server on loopback.</summary>
public sealed class SftpTests : IDisposable
{
    private readonly Keep keep = new();
    private readonly SshServer server;

    public SftpTests() => server = new SshServer(Path.Combine(keep.Root, "ssh"));

    public void Dispose()
    {
        server.Dispose();
        keep.Dispose();
    }

    private SftpPlace Place(string? hostKey = null, TimeSpan? patience = null) => new(server.At(keep.StoreFolder, hostKey), patience);

    [Fact]
    public async Task Runs_checks_restores_and_reclaims_go_over_the_wire_and_a_dropped_connection_is_taken_up_again()
    {
        var random = new Random(5);
        for (var i = 0; i < 30; i++)
        {
            var bytes = new byte[400_000];
            random.NextBytes(bytes);
            keep.Write($"{i % 3}/{i}", bytes);
        }
        using var place = Place();
        keep.Place = new DroppingPlace(place, server.Drop);
        var first = await keep.BackUp();
        keep.Write("0/new", "more");
        var second = await keep.BackUp(first);
        Assert.Equal(1, keep.Figures.FilesRead);
        Assert.True(StoreCheck.Run(keep.Store, CheckScope.Everything with { Depth = CheckDepth.Deep }).Sound);
        var (folder, report) = keep.Restore(second);
        Assert.Empty(report.Problems);
        Assert.Equal("", Listing.Diff(keep.Source, folder));
        Assert.True(keep.Store.MoveToBin(first.Id, DateTimeOffset.UtcNow.AddDays(-1)));
        Assert.Single(Reclaim.Run(keep.Store, DateTimeOffset.UtcNow).CopiesGone);
        Assert.True(((DroppingPlace)keep.Place).Drops > 3);
        // The same store from the folder itself: the place is only a way to it.
        keep.Reopen();
        keep.Place = new FolderPlace(keep.StoreFolder);
        Assert.True(StoreCheck.Run(keep.Store).Sound);
        Assert.Empty(Directory.EnumerateFiles(keep.StoreFolder + "/work"));
    }

    [Fact]
    public async Task Cancelled_work_does_not_wait_for_a_server_that_stands_still_and_a_taken_name_is_refused()
    {
        using var place = Place();
        Assert.True(place.WriteNew("a", "first"u8));
        Assert.False(place.WriteNew("a", "second"u8));
        Assert.Equal("first"u8.ToArray(), place.Read("a"));
        Assert.Empty(Directory.EnumerateFiles(keep.StoreFolder + "/work"));
        Signal("STOP");
        using var cancel = new CancellationTokenSource();
        var asking = Task.Run(() =>
        {
            PlaceWaits.EndWith(cancel.Token);
            return place.Read("a");
        });
        await cancel.CancelAsync();
        // The server would be waited for ten times as long.
        Assert.Equal(
            PlaceFault.Unreachable,
            (await Assert.ThrowsAsync<PlaceException>(() => asking.WaitAsync(PlaceWaits.Grace * 5))).Fault
        );
        Signal("CONT");

        // To the server and all that it has begun.
        void Signal(string name) =>
            Listing.Shell(
                $"at={server.Id}; while [ -n \"$at\" ]; do kill -{name} $at; at=$(for p in $at; do pgrep -P $p; done); done; true",
                "/"
            );
    }

    [Fact]
    public void Files_links_and_moves_on_a_server_are_looked_at_as_in_a_folder()
    {
        using var place = Place();
        using (var large = File.Create(keep.StoreFolder + "/large"))
            large.SetLength(Stores.Places.Place.MostSmall + 1);
        Assert.Contains("nothing of its kind has", Assert.Throws<PlaceException>(() => place.Read("large")).Message);
        // The answer to a move may be lost with the connection: asked again, it has happened.
        Assert.True(place.WriteNew("there", "moved"u8));
        place.Move("here", "there");
        Assert.Equal("moved"u8.ToArray(), place.Read("there"));
        Assert.Equal(PlaceFault.NotFound, Assert.Throws<PlaceException>(() => place.Move("here", "nowhere")).Fault);
        // What somebody is writing stays, what was left goes, and a link leads nowhere.
        var work = Directory.CreateDirectory(keep.StoreFolder + "/work").FullName;
        foreach (var (name, age) in new[] { ("old", 3), ("new", 0) })
        {
            File.WriteAllText($"{work}/{name}.part", "");
            File.SetLastWriteTimeUtc($"{work}/{name}.part", DateTime.UtcNow.AddHours(-age));
        }
        place.RemoveRemnants(TimeSpan.FromHours(1));
        Assert.Equal(["new.part"], Directory.EnumerateFiles(work).Select(Path.GetFileName));
        Directory.Move(work, keep.Root + "/elsewhere");
        File.CreateSymbolicLink(work, keep.Root + "/elsewhere");
        place.RemoveRemnants(TimeSpan.Zero);
        Assert.True(File.Exists(keep.Root + "/elsewhere/new.part"));
    }

    [Fact]
    public void A_server_with_another_key_a_stranger_and_one_that_is_gone_are_told_apart()
    {
        using var other = Place("SHA256:" + new string('A', 43));
        var refused = Assert.Throws<PlaceException>(() => other.List(""));
        Assert.Equal(PlaceFault.AccessRefused, refused.Fault);
        Assert.Contains(server.Fingerprint, refused.Message);
        server.ForgetLogins();
        using var stranger = Place();
        Assert.Contains("does not let", Assert.Throws<PlaceException>(() => stranger.List("")).Message);
        server.Stop();
        using var gone = Place(patience: TimeSpan.Zero);
        Assert.Equal(PlaceFault.Unreachable, Assert.Throws<PlaceException>(() => gone.List("")).Fault);
    }

    /// <summary>Lets every connection drop before each tenth piece of work.</summary>
    private sealed class DroppingPlace(IPlace place, Action drop) : IPlace
    {
        private int calls;

        public int Drops { get; private set; }
        public string Name => place.Name;
        public PlaceAbilities Can => place.Can;

        public IReadOnlyList<PlaceFile> List(string folder) => Next().List(folder);

        public bool Exists(string name) => Next().Exists(name);

        public byte[] Read(string name) => Next().Read(name);

        public int ReadAt(string name, long offset, Span<byte> buffer) => Next().ReadAt(name, offset, buffer);

        public IPlaceWriter Create(long expected) => Next().Create(expected);

        public void Move(string from, string to) => Next().Move(from, to);

        public void Delete(string name, bool durable = true) => Next().Delete(name, durable);

        public void RemoveRemnants(TimeSpan idle) => Next().RemoveRemnants(idle);

        public long? FreeBytes() => Next().FreeBytes();

        private IPlace Next()
        {
            if (Interlocked.Increment(ref calls) % 10 == 0)
            {
                drop();
                Drops++;
            }
            return place;
        }
    }
}
