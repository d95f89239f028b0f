using System.Net;
using IronKeep.Contracts;

namespace IronKeep.Service.Tests;

public sealed class ComparingTests
{
    [Fact]
    public async Task Two_copies_are_compared_from_where_they_part_and_a_text_is_read_from_either()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter(keep: "newest 20"));
        bench.Write("letters/reply.txt", "Dear ringers,\n");
        bench.Write("letters/old.txt", "to be removed");
        bench.Write("letters/photo", "\u0000\u0001");
        await bench.BackUpAsync();
        bench.Clock.Now = bench.Clock.Now.AddDays(1);
        bench.Write("letters/reply.txt", "Dear ringers,\nthank you.\n");
        File.Delete(bench.Source + "/letters/old.txt");
        await bench.BackUpAsync();
        var copies = await bench.CopiesAsync();
        var (newer, older) = (copies[0].Id, copies[1].Id);

        // Whichever is named first, and without a path down to the folder in which they differ.
        foreach (var path in new[] { $"{newer}/differences?with={older}", $"{older}/differences?with={newer}" })
        {
            var found = await bench.GetAsync<CopyDifferencesAnswer>($"copies/{path}");
            Assert.Equal((older, newer, bench.Source + "/letters", true), (found.Before.Id, found.After.Id, found.Path, found.Complete));
            Assert.Equal(["old.txt removed", "reply.txt changed"], found.Entries.Select(e => $"{e.Name} {e.Change}"));
            Assert.Equal((14, 25), (found.Entries[1].SizeBefore, found.Entries[1].SizeAfter));
            Assert.Equal((1L, 1L, 0L), (found.Sums.Removed, found.Sums.Changed, found.Sums.Added));
        }
        var top = await bench.GetAsync<CopyDifferencesAnswer>($"copies/{newer}/differences?with={older}&path=/");
        Assert.Equal(("/", 1), (top.Path, top.Entries.Count));
        Assert.Empty((await bench.GetAsync<CopyDifferencesAnswer>($"copies/{newer}/differences?with={newer}")).Entries);

        var letter = Uri.EscapeDataString(bench.Source + "/letters/reply.txt");
        Assert.Equal("Dear ringers,\n", (await bench.GetAsync<FileTextAnswer>($"copies/{older}/text?path={letter}")).Text);
        Assert.Equal("Dear ringers,\nthank you.\n", (await bench.GetAsync<FileTextAnswer>($"copies/{newer}/text?path={letter}")).Text);
        var photo = await bench.GetAsync<FileTextAnswer>(
            $"copies/{newer}/text?path={Uri.EscapeDataString(bench.Source + "/letters/photo")}"
        );
        Assert.Equal((null, 2L, "it is not text; restore it to look at it"), (photo.Text, photo.Size, photo.Reason));
        bench.Clock.Now = bench.Clock.Now.AddDays(1);
        bench.Write("large", new string('x', 1024 * 1024 + 1));
        await bench.BackUpAsync();
        var large = await bench.GetAsync<FileTextAnswer>(
            $"copies/{(await bench.CopiesAsync())[0].Id}/text?path={Uri.EscapeDataString(bench.Source + "/large")}"
        );
        Assert.Equal((null, true), (large.Text, large.Reason?.Contains("too large", StringComparison.Ordinal)));

        foreach (
            var (path, status, words) in new[]
            {
                ($"{newer}/differences?with=nothing", HttpStatusCode.NotFound, "nothing"),
                ($"{newer}/differences?with={older}&path={letter}", HttpStatusCode.BadRequest, "compare the folder above it"),
                ($"{newer}/differences?with={older}&path=/nowhere", HttpStatusCode.NotFound, "/nowhere"),
                ($"{newer}/differences?with={older}&path=%5Cq", HttpStatusCode.BadRequest, "backslash"),
                ($"{newer}/text?path=/nowhere", HttpStatusCode.NotFound, "/nowhere"),
                ($"{newer}/text?path={Uri.EscapeDataString(bench.Source)}", HttpStatusCode.BadRequest, "folder"),
            }
        )
        {
            var refused = await bench.RawAsync(HttpMethod.Get, $"copies/{path}");
            Assert.Equal(status, refused.StatusCode);
            Assert.Contains(words, await refused.Content.ReadAsStringAsync());
        }
        Assert.Equal(
            HttpStatusCode.Unauthorized,
            (await bench.Anonymous().GetAsync($"/api/v1/copies/{newer}/text?path={letter}")).StatusCode
        );
    }

    [Fact]
    public async Task The_list_of_copies_is_narrowed_by_machine_state_and_time()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter(keep: "newest 20"));
        for (var i = 0; i < 4; i++)
        {
            bench.Write("file", $"{i}");
            await bench.BackUpAsync();
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
        }
        var ids = (await bench.CopiesAsync()).Select(c => c.Id).ToList();
        await bench.SendAsync<CopyAnswer>(
            HttpMethod.Put,
            $"copies/{ids[3]}/hold",
            new HoldRequest("for the survey", bench.Clock.Now.AddDays(3))
        );
        Assert.Equal(ids, await Listed("machine=heron"));
        Assert.Empty(await Listed("machine=knot"));
        Assert.Equal(ids, await Listed("state=unchecked"));
        Assert.Empty(await Listed("state=sound"));
        Assert.Equal([ids[3]], await Listed("state=held"));
        Assert.Empty(await Listed("state=in-bin"));
        Assert.Empty(await Listed("state=suspect"));
        // From the instant on, and before the other.
        var taken = (await bench.CopiesAsync()).Select(c => c.Taken).ToList();
        Assert.Equal([ids[1], ids[2]], await Listed($"since={At(taken[2])}&until={At(taken[0])}"));
        Assert.Equal(HttpStatusCode.BadRequest, (await bench.RawAsync(HttpMethod.Get, "copies?state=fine")).StatusCode);
        bench.Clock.Now = bench.Clock.Now.AddDays(4);
        Assert.Empty(await Listed("state=held"));

        async Task<List<string>> Listed(string query) =>
            [.. (await bench.GetAsync<Page<CopyAnswer>>($"copies?{query}")).Items.Select(c => c.Id)];

        static string At(DateTimeOffset time) => Uri.EscapeDataString(time.ToString("O"));
    }

    [Fact]
    public async Task Folders_of_the_machine_are_listed_by_name_alone()
    {
        await using var bench = await Bench.StartAsync();
        Directory.CreateDirectory(bench.Root + "/look/b/inner");
        Directory.CreateDirectory(bench.Root + "/look/a");
        File.WriteAllText(bench.Root + "/look/file", "");
        Directory.CreateSymbolicLink(bench.Root + "/look/link", "/");
        var found = await Look(bench.Root + "/look/../look");
        Assert.Equal((bench.Root + "/look", bench.Root, false), (found.Path, found.Above, found.Truncated));
        Assert.Equal(["a", "b"], found.Folders);
        Assert.Empty((await Look(bench.Root + "/look/a")).Folders);
        Assert.Null((await bench.GetAsync<MachineFolderAnswer>("folders")).Above);
        foreach (var (path, status) in new[] { ("/look/none", HttpStatusCode.NotFound), ("/look/file", HttpStatusCode.NotFound) })
            Assert.Equal(
                status,
                (await bench.RawAsync(HttpMethod.Get, $"folders?path={Uri.EscapeDataString(bench.Root + path)}")).StatusCode
            );
        Assert.Equal(HttpStatusCode.BadRequest, (await bench.RawAsync(HttpMethod.Get, "folders?path=relative")).StatusCode);
        Assert.Equal(HttpStatusCode.Unauthorized, (await bench.Anonymous().GetAsync("/api/v1/folders")).StatusCode);

        Task<MachineFolderAnswer> Look(string path) => bench.GetAsync<MachineFolderAnswer>($"folders?path={Uri.EscapeDataString(path)}");
    }

    /// <summary>Whatever the language offers the reader takes: a key that only one of them knew would be a trap.</summary>
    [Fact]
    public async Task Every_key_that_is_offered_is_one_that_the_reader_knows()
    {
        await using var bench = await Bench.StartAsync();
        var language = await bench.GetAsync<List<CharterKindAnswer>>("charter/language");
        Assert.Equal(20, language.Count);
        foreach (var kind in language)
        {
            var indent = kind.Section is null ? "" : "    ";
            var keys = string.Concat(kind.Keys.Select(k => $"{indent}{k.Key}: {(k.Choices.Count > 0 ? k.Choices[0] : "something")}\n"));
            var yaml = $"charter: 1\n{(kind.Section is null ? "" : $"{kind.Section}:\n  one:\n")}{keys}{indent}never-heard-of: x\n";
            var check = await bench.SendAsync<CharterCheckAnswer>(HttpMethod.Post, "charter/check", new CharterText(yaml));
            var unknown = Assert.Single(check.Mistakes, m => m.Message.Contains("unknown key", StringComparison.Ordinal));
            Assert.Contains("never-heard-of", unknown.Message);
            // Words that are offered are taken, and names are looked up among the kind that is said.
            foreach (var key in kind.Keys.Where(k => k.Choices.Count > 0))
                Assert.DoesNotContain(check.Mistakes, m =>
                    m.Message.Contains($"'{key.Choices[0]}' is not known", StringComparison.Ordinal)
                );
            foreach (var of in kind.Keys.Where(k => k.Of is not null && k.Key != "leaves-copy-in").GroupBy(k => k.Of))
                Assert.Equal(
                    of.Count(),
                    check.Mistakes.Count(m => m.Message.Contains($"there is no {of.Key} 'something'", StringComparison.Ordinal))
                );
        }
    }
}
