using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;

namespace IronKeep.Service.Tests;

/// <summary>Two stores of one job: what a check finds lost in one comes back from the other by itself.</summary>
public sealed class HealingTests
{
    [Fact]
    public async Task A_check_that_finds_loss_sends_a_healing_after_it_and_the_copy_is_whole_again()
    {
        // Where no other test works: the attributes of the folders above are part of a copy, and both stores shall have the same.
        await using var bench = await Bench.StartAsync(under: AppContext.BaseDirectory);
        await bench.ApplyAsync(Charter(bench));
        bench.Write("register.csv", "ring,species\nHG1,dunlin\n");
        await bench.BackUpAsync();
        foreach (var pack in Directory.EnumerateFiles(bench.StoreFolder + "/packs", "*", SearchOption.AllDirectories))
            File.Delete(pack);
        var check = await bench.RunAsync("stores/cellar/checks");
        Assert.Equal("failed", check.Outcome.Word());
        await bench.IdleAsync();
        var heal = Assert.Single((await bench.GetAsync<Page<RunAnswer>>("runs?kind=heal")).Items);
        Assert.True(heal.Outcome.Word() == "ok", heal.Sentence);
        Assert.Equal($"run {check.Id}", heal.By.Words);
        Assert.Contains("its hurt copy is whole again", heal.Sentence);
        Assert.All(await bench.CopiesAsync(), c => Assert.NotEqual("unsound", c.State.Word()));
        Assert.Equal("ok", (await bench.RunAsync("stores/cellar/checks?depth=deep")).Outcome.Word());
        Assert.All((await bench.CopiesAsync()).Where(c => c.Store == "cellar"), c => Assert.Equal("sound", c.State.Word()));
        Assert.Empty(await bench.OpenAlertsAsync());
        // Nothing is hurt any more, and it is said.
        Assert.Equal("not-needed", (await bench.RunAsync("stores/cellar/heals")).Outcome.Word());
    }

    [Fact]
    public async Task A_store_is_attached_under_a_new_name_by_a_service_that_never_knew_it_and_its_copies_restore()
    {
        await using var elsewhere = await Bench.StartAsync();
        var key = Path.Combine(elsewhere.Root, "cellar.key");
        File.WriteAllBytes(key, [.. Enumerable.Range(1, 32).Select(i => (byte)i)]);
        await elsewhere.ApplyAsync(elsewhere.Charter().Replace("bin: 2 days", $"bin: 2 days, key-file: {key}", StringComparison.Ordinal));
        elsewhere.Write("register.csv", "ring,species");
        await elsewhere.BackUpAsync();
        elsewhere.Clock.Now = elsewhere.Clock.Now.AddDays(1);
        await elsewhere.BackUpAsync();

        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        async Task<string> RefusedAsync(AttachRequest request, int status)
        {
            using var answer = await bench.RawAsync(HttpMethod.Post, "stores", request);
            Assert.Equal(status, (int)answer.StatusCode);
            return await answer.Content.ReadAsStringAsync();
        }
        Assert.Contains("cannot be a name", await RefusedAsync(new("The Cellar", elsewhere.StoreFolder), 400));
        Assert.Contains("not an absolute folder", await RefusedAsync(new("old", "cellar"), 400));
        Assert.Contains("There is no store at", await RefusedAsync(new("old", elsewhere.Source), 409));
        Assert.Contains("is encrypted", await RefusedAsync(new("old", elsewhere.StoreFolder), 409));
        Assert.Contains("another name", await RefusedAsync(new("cellar", elsewhere.StoreFolder, key), 409));
        Assert.Contains("'cellar'", await RefusedAsync(new("twin", bench.StoreFolder), 409));
        Assert.Single((await bench.GetAsync<IReadOnlyList<StoreAnswer>>("stores")));

        var attached = await bench.SendAsync<AttachAnswer>(
            HttpMethod.Post,
            "stores",
            new AttachRequest("old", elsewhere.StoreFolder + "/", key)
        );
        Assert.Equal((2, 2, "aes-256-gcm"), (attached.Learned, attached.Store.Copies, attached.Store.Encryption));
        Assert.Empty(attached.Problems);
        Assert.Contains("key-file", (await bench.GetAsync<DefinitionAnswer>("definitions/store/old")).Yaml);
        Assert.Equal("ok", (await bench.RunAsync("stores/old/checks")).Outcome.Word());
        var copy = (await bench.CopiesAsync()).First(c => c.Store == "old");
        var to = Path.Combine(bench.Root, "back");
        Assert.Equal("ok", (await bench.RunAsync($"copies/{copy.Id}/restores", new RestoreRequest([], to))).Outcome.Word());
        Assert.Equal("ring,species", File.ReadAllText(to + elsewhere.Source + "/register.csv"));
        // Again is no mistake, and learns nothing new.
        Assert.Equal(
            0,
            (await bench.SendAsync<AttachAnswer>(HttpMethod.Post, "stores", new AttachRequest("old", elsewhere.StoreFolder, key))).Learned
        );
        // Taken out and attached under another name, its copies are found there.
        var there = await bench.GetAsync<DefinitionAnswer>("definitions/store/old");
        using (
            var remove = new HttpRequestMessage(HttpMethod.Delete, "/api/v1/definitions/store/old?confirm=true")
            {
                Headers = { { "If-Match", there.Tag } },
            }
        )
            Assert.True((await bench.Http.SendAsync(remove)).IsSuccessStatusCode);
        var renamed = await bench.SendAsync<AttachAnswer>(
            HttpMethod.Post,
            "stores",
            new AttachRequest("veteran", elsewhere.StoreFolder, key)
        );
        Assert.Equal((0, 2), (renamed.Learned, renamed.Store.Copies));
    }

    [Fact]
    public async Task Keys_of_a_store_are_listed_a_sheet_is_given_once_and_the_services_own_cannot_be_withdrawn()
    {
        await using var bench = await Bench.StartAsync();
        var key = Path.Combine(bench.Root, "cellar.key");
        File.WriteAllBytes(key, [.. Enumerable.Range(1, 32).Select(i => (byte)i)]);
        await bench.ApplyAsync(bench.Charter().Replace("bin: 2 days", $"bin: 2 days, key-file: {key}", StringComparison.Ordinal));
        var own = Assert.Single(await bench.GetAsync<IReadOnlyList<StoreKeyAnswer>>("stores/cellar/keys"));
        Assert.True(own.UsedByService);
        var sheet = await bench.SendAsync<RecoverySheetAnswer>(
            HttpMethod.Post,
            "stores/cellar/keys/recovery-sheets",
            new RecoverySheetRequest("in the safe")
        );
        var code = sheet.Sheet.Split('\n').Select(l => l.Trim()).Where(l => l.Count(c => c == '-') == 3 && l.Length == 35);
        using (
            var opened = IronKeep.Stores.Pooled.PooledStore.OpenToRead(
                new IronKeep.Stores.Places.FolderPlace(bench.StoreFolder),
                IronKeep.Stores.Keys.Secret.Recovery(string.Join("-", code))
            )
        )
            Assert.True(opened.Head.Encrypts);
        Assert.Equal(2, (await bench.GetAsync<IReadOnlyList<StoreKeyAnswer>>("stores/cellar/keys")).Count);
        var refused = await bench.RawAsync(HttpMethod.Delete, $"stores/cellar/keys/{own.Id}");
        Assert.Equal(409, (int)refused.StatusCode);
        Assert.Contains("what the service opens store cellar with", await refused.Content.ReadAsStringAsync());
        Assert.Single(await bench.SendAsync<IReadOnlyList<StoreKeyAnswer>>(HttpMethod.Delete, $"stores/cellar/keys/{sheet.Id}"));
        Assert.Equal(409, (int)(await bench.RawAsync(HttpMethod.Delete, "stores/cellar/keys/nobody")).StatusCode);
        Assert.Equal(
            400,
            (int)(await bench.RawAsync(HttpMethod.Post, "stores/cellar/keys/recovery-sheets", new RecoverySheetRequest(" "))).StatusCode
        );
    }

    [Fact]
    public async Task A_copy_is_sent_as_an_archive_and_exported_by_a_run_that_never_writes_over_anything()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        bench.Write("a/register.csv", "ring,species");
        bench.Write("b/tide.csv", "low,high");
        await bench.BackUpAsync();
        var copy = (await bench.CopiesAsync()).Single();
        var sent = await bench.RawAsync(HttpMethod.Get, $"copies/{copy.Id}/archive?path={Uri.EscapeDataString(bench.Source + "/a")}");
        Assert.Equal("application/x-tar", sent.Content.Headers.ContentType!.MediaType);
        using (var reader = new System.Formats.Tar.TarReader(await sent.Content.ReadAsStreamAsync()))
        {
            var names = new List<string>();
            while (await reader.GetNextEntryAsync() is { } entry)
                names.Add(entry.Name);
            Assert.Equal([bench.Source[1..] + "/a/", bench.Source[1..] + "/a/register.csv"], names);
        }
        Assert.Equal(404, (int)(await bench.RawAsync(HttpMethod.Get, $"copies/{copy.Id}/archive?path=/no/such")).StatusCode);
        Assert.Equal(401, (int)(await bench.Anonymous().GetAsync($"/api/v1/copies/{copy.Id}/archive")).StatusCode);

        var to = Path.Combine(bench.Root, "copy.tar.zst");
        var run = await bench.RunAsync($"copies/{copy.Id}/exports", new ExportRequest([], "tar", to));
        Assert.True(run.Outcome.Word() == "ok", run.Sentence);
        var again = await bench.RunAsync($"copies/{copy.Id}/exports", new ExportRequest([], "tar", to));
        Assert.Equal("failed", again.Outcome.Word());
        Assert.Contains("exists already", again.Sentence);
        Assert.Equal(
            "failed",
            (await bench.RunAsync($"copies/{copy.Id}/exports", new ExportRequest(["/no/such"], "tar", to + "2"))).Outcome.Word()
        );
        Assert.False(File.Exists(to + "2") || File.Exists(to + "2.part"));
        Assert.Equal(
            "ok",
            (
                await bench.RunAsync($"copies/{copy.Id}/exports", new ExportRequest([bench.Source + "/b"], "bag", bench.Root + "/bag"))
            ).Outcome.Word()
        );
        Assert.Equal("low,high", File.ReadAllText(bench.Root + "/bag/data" + bench.Source + "/b/tide.csv"));
        Assert.False(Directory.Exists(bench.Root + "/bag/data" + bench.Source + "/a"));
        Assert.Equal(
            409,
            (int)
                (
                    await bench.RawAsync(
                        HttpMethod.Post,
                        $"copies/{copy.Id}/exports",
                        new ExportRequest([], "tar", bench.StoreFolder + "/x.tar")
                    )
                ).StatusCode
        );
        Assert.Equal(
            400,
            (int)(await bench.RawAsync(HttpMethod.Post, $"copies/{copy.Id}/exports", new ExportRequest([], "zip", to))).StatusCode
        );
        Assert.Equal(
            400,
            (int)(await bench.RawAsync(HttpMethod.Post, $"copies/{copy.Id}/exports", new ExportRequest([], "tar", "copy.tar"))).StatusCode
        );
        Assert.Empty(await bench.OpenAlertsAsync());
    }

    private static string Charter(Bench bench) =>
        $$"""
            charter: 1
            stores:
              cellar: { folder: {{bench.StoreFolder}} }
              attic: { folder: {{bench.Root}}/attic }
            policies:
              few: { keep: newest 2 }
            jobs:
              register: { takes: {{bench.Source}}, into: [cellar, attic], policy: few }
            """;
}
