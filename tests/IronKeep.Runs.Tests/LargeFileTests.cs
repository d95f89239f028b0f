using IronKeep.Stores.Pooled;
using IronKeep.Stores.Trees;

namespace IronKeep.Runs.Tests;

/// <summary>
/// A large file is cut with the help of how it was cut before; whatever was done to it, the cuts are those of a first run.
/// </summary>
public sealed class LargeFileTests : IDisposable
{
    private readonly Keep keep = new();

    public void Dispose() => keep.Dispose();

    [Fact]
    public async Task However_a_large_file_changed_it_is_cut_as_if_nothing_had_been_known_and_comes_back()
    {
        var seed = Environment.TickCount;
        var random = new Random(seed);
        // A little over a stretch of 64 MiB, so that changes move its end across the border.
        var content = new byte[68_000_000];
        random.NextBytes(content);
        keep.Write("large", content);
        var last = await keep.BackUp();
        for (var round = 0; round < 10; round++)
        {
            var at = random.Next(content.Length);
            var some = new byte[random.Next(1, 2_000_000)];
            random.NextBytes(some);
            var how = round % 6;
            content = how switch
            {
                0 => [.. content[..at], .. some, .. content[at..]],
                1 => [.. content, .. some],
                2 => content[..Math.Max(6_000_000, at)],
                3 => [.. content[..at], .. content[Math.Min(content.Length, at + some.Length)..]],
                4 => [.. content, .. content[..3_000_000]],
                _ => Over(content, some, at),
            };
            keep.Write("large", content);
            var next = await keep.BackUp(last);
            var anew = await keep.BackUp();
            Assert.True(
                Of(next).Content.Equals(Of(anew).Content),
                $"seed {seed}, round {round}, change {how} at {at}: {content.Length} bytes are cut in another way"
            );
            last = next;
        }
        keep.Reopen();
        Assert.Equal("", Listing.Diff(keep.Source, keep.Restore(last).Folder));
    }

    private TreeEntry Of(CopyRecord copy) =>
        TreeWalk.Find(keep.Store, copy, [.. $"{keep.Source}/large"[1..].Split('/').Select(System.Text.Encoding.UTF8.GetBytes)])!;

    private static byte[] Over(byte[] content, byte[] some, int at)
    {
        var next = content.ToArray();
        some.AsSpan(0, Math.Min(some.Length, content.Length - at)).CopyTo(next.AsSpan(at));
        return next;
    }
}
