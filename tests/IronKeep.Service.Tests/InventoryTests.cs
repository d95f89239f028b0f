using System.Net;
using System.Text;
using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Service.MachineDesk;

namespace IronKeep.Service.Tests;

/// <summary>Machines from a list, again and again. The clock begins at 2026-11-23 09:00Z.</summary>
public sealed class InventoryTests
{
    private static readonly Dictionary<string, string> AsTheyAre = [];

    private static string Read(string text, Dictionary<string, string>? columns = null)
    {
        var read = InventoryReader.Read(text, columns ?? AsTheyAre);
        return read.Mistakes.Length > 0
            ? string.Join(" | ", read.Mistakes.Select(m => $"{m.Line}: {m.Message}"))
            : string.Join(
                " ",
                read.Machines.Select(m => $"{m.Name}({string.Join(",", m.Values.Select(v => $"{v.Key}={string.Join('+', v.Values)}"))})")
            );
    }

    [Theory]
    [InlineData(
        "name,site,tags\nheron,lighthouse,\"lab disk-sdb\"\nKNOT.saltmere.example,,\n",
        "heron(site=lighthouse,tags=lab+disk-sdb) knot(site=,tags=)"
    )]
    [InlineData("\uFEFFsite;name\r\n\"light; house\";heron\r\n\r\n", "heron(site=light; house)")]
    [InlineData("name\tsite\nheron\tlight\"house\n", "heron(site=light\"house)")]
    [InlineData("name\nheron\n\"knot\"\n", "heron() knot()")]
    [InlineData(
        "[{\"name\":\"heron\",\"tags\":[\"lab\",\"a\"],\"importance\":5},{\"name\":\"knot\",\"tags\":null}]",
        "heron(tags=lab+a,importance=5) knot(tags=)"
    )]
    public void Lists_are_read_as_they_come(string text, string machines) => Assert.Equal(machines, Read(text));

    [Theory]
    [InlineData("", "the list is empty")]
    [InlineData("host,site\nheron,x\n", "there is no column 'name' with the machines' names, only host, site")]
    [InlineData("name,name\nheron,x\n", "two columns are called 'name'")]
    [InlineData("name,site\nheron\n", "2: has 1 values where the header has 2")]
    [InlineData("name\nheron\nheron.saltmere.example\n", "3: machine heron is listed twice, first in 2")]
    [InlineData("name\nher on\n", "2: 'her on' cannot be the name of a machine")]
    [InlineData("name\n../etc\n", "2: '../etc' cannot be the name of a machine")]
    [InlineData("{\"name\":\"heron\"}", "no array of machines")]
    [InlineData("[\"heron\"]", "entry 1 is no object")]
    [InlineData("[{\"name\":\"heron\"},{\"host\":\"knot\"}]", "2: '' cannot be the name of a machine")]
    [InlineData("[{\"name\":\"heron\"}", "cannot be read as JSON")]
    public void What_is_wrong_with_a_list_is_told_with_its_line(string text, string problem) => Assert.Contains(problem, Read(text));

    [Fact]
    public void Columns_can_be_called_otherwise()
    {
        var columns = new Dictionary<string, string> { ["name"] = "Host", ["site"] = "Place" };
        Assert.Equal("heron(site=x)", Read("Host,Place,ip\nheron,x,10.0.0.1\n", columns));
        Assert.Equal(["ip"], InventoryReader.Read("Host,Place,ip\nheron,x,10.0.0.1\n", columns).NotUsed);
        Assert.Contains("there is no column 'Place'", Read("Host\nheron\n", columns));
        Assert.Contains("'disk' is nothing that a list can say", Read("name,d\nheron,x\n", new() { ["disk"] = "d" }));
    }

    [Fact]
    public void A_list_of_too_many_is_not_read_to_its_end()
    {
        var text = new StringBuilder("name\n");
        for (var i = 0; i < InventoryReader.MostMachines + 100; i++)
            text.Append(System.Globalization.CultureInfo.InvariantCulture, $"tern-{i}\n");
        var read = InventoryReader.Read(text.ToString(), AsTheyAre);
        Assert.Contains("more than 20000 machines", Assert.Single(read.Mistakes).Message);
    }

    [Fact]
    public void A_list_that_is_wrong_everywhere_is_not_told_line_by_line()
    {
        var wrong = "name\n" + string.Concat(Enumerable.Repeat("her on\n", 5_000));
        Assert.Equal(100, InventoryReader.Read(wrong, AsTheyAre).Mistakes.Length);
        var wide = InventoryReader.Read(string.Join(',', Enumerable.Range(0, 300).Select(i => $"c{i}")) + ",name\n", AsTheyAre);
        Assert.Contains("there are 301 columns; 200 are the most", Assert.Single(wide.Mistakes).Message);
    }

    private static string Charter(Bench bench) =>
        $$"""
            charter: 1
            zone: UTC
            machines: { heron: { site: lighthouse } }
            stores: { cellar: { folder: {{bench.StoreFolder}} } }
            policies: { few: { keep: newest 2 } }
            jobs:
              home: { on: site = hides, takes: {{bench.Source}}, into: cellar, policy: few, when: daily at 23:00 }
            """;

    private static string List(int count) => "name,site\n" + string.Concat(Enumerable.Range(1, count).Select(i => $"tern-{i},hides\n"));

    private static Task<ImportAnswer> PreviewAsync(Bench bench, ImportRequest request) =>
        bench.SendAsync<ImportAnswer>(HttpMethod.Post, "machines-import/preview", request);

    [Fact]
    public async Task A_list_is_shown_first_and_then_taken_whole_and_what_it_lacks_is_retired_only_when_asked()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(Charter(bench));
        var request = new ImportRequest(List(10), "hides");
        var shown = await PreviewAsync(bench, request);
        Assert.Equal((10, 10, 0, 0), (shown.Listed, shown.Comes.Count, shown.Changes.Count, shown.Goes.Count));
        var reach = Assert.Single(shown.Reach);
        Assert.Equal(("home", 10), (reach.Job, reach.Count));
        Assert.Single((await bench.GetAsync<MachinesAnswer>("machines")).Machines);
        await bench.SendAsync<ImportAnswer>(HttpMethod.Post, $"machines-import?revision={shown.Revision}", request);
        Assert.Equal(11, (await bench.GetAsync<MachinesAnswer>("machines")).Machines.Count);
        Assert.Equal(10, (await bench.GetAsync<List<JobAnswer>>("jobs?job=home")).Count);

        // Whoever looked at an earlier charter is told so; the same list again changes nothing.
        var late = await bench.RawAsync(HttpMethod.Post, $"machines-import?revision={shown.Revision}", request);
        Assert.Equal(HttpStatusCode.Conflict, late.StatusCode);
        var again = await PreviewAsync(bench, request);
        Assert.Equal((0, 0, 0), (again.Comes.Count, again.Changes.Count, again.Goes.Count));

        // Another source's list says nothing of these.
        Assert.Empty((await PreviewAsync(bench, new ImportRequest("name\nknot\n", "mainland"))).Goes);

        var fewer = new ImportRequest(List(9), "hides");
        shown = await PreviewAsync(bench, fewer);
        Assert.Equal(["tern-10"], shown.Goes);
        await bench.SendAsync<ImportAnswer>(HttpMethod.Post, $"machines-import?revision={shown.Revision}", fewer);
        Assert.Null((await bench.GetAsync<MachineAnswer>("machines/tern-10")).Retired);
        var words = new RetireWords("2026-11-23", "2027-11-23", "maud", "2027-10-01");
        var retiring = fewer with { Retire = words };
        shown = await PreviewAsync(bench, retiring);
        await bench.SendAsync<ImportAnswer>(HttpMethod.Post, $"machines-import?revision={shown.Revision}", retiring);
        Assert.Equal("2027-11-23", (await bench.GetAsync<MachineAnswer>("machines/tern-10")).Retired!.CopiesUntil);
        Assert.Equal(["tern-10"], (await PreviewAsync(bench, request)).Retired);
    }

    [Fact]
    public async Task A_list_that_lost_many_machines_is_asked_about_before_they_are_retired()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(Charter(bench));
        var all = await PreviewAsync(bench, new ImportRequest(List(10), "hides"));
        await bench.SendAsync<ImportAnswer>(
            HttpMethod.Post,
            $"machines-import?revision={all.Revision}",
            new ImportRequest(List(10), "hides")
        );
        var few = new ImportRequest(List(6), "hides", Retire: new RetireWords("2026-11-23", "2027-11-23", "maud", "2027-10-01"));
        var shown = await PreviewAsync(bench, few);
        Assert.Contains("4 of the 10 machines from hides are not in the list any more", Assert.Single(shown.Consequences));
        var refused = await bench.RawAsync(HttpMethod.Post, $"machines-import?revision={shown.Revision}", few);
        Assert.Equal(HttpStatusCode.Conflict, refused.StatusCode);
        // Who looked at an earlier charter is not asked to confirm what this one makes of the list.
        var late = await bench.RawAsync(HttpMethod.Post, $"machines-import?revision={shown.Revision - 1}", few);
        Assert.Contains("look at the preview again", await late.Content.ReadAsStringAsync(), StringComparison.Ordinal);
        Assert.Null((await bench.GetAsync<MachineAnswer>("machines/tern-10")).Retired);
        await bench.SendAsync<ImportAnswer>(HttpMethod.Post, $"machines-import?revision={shown.Revision}&confirm=true", few);
        Assert.NotNull((await bench.GetAsync<MachineAnswer>("machines/tern-10")).Retired);
    }

    [Fact]
    public async Task A_value_that_no_charter_takes_is_told_with_the_line_of_its_machine_and_nothing_changes()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(Charter(bench));
        var request = new ImportRequest("name,importance\ntern-1,3\ntern-2,9\n", "hides");
        var shown = await PreviewAsync(bench, request);
        var mistake = Assert.Single(shown.Mistakes);
        Assert.Equal((3, "machine tern-2"), (mistake.Line, mistake.About));
        var refused = await bench.RawAsync(HttpMethod.Post, $"machines-import?revision={shown.Revision}", request);
        Assert.Equal(HttpStatusCode.BadRequest, refused.StatusCode);
        Assert.Contains(
            "importance",
            JsonDocument.Parse(await refused.Content.ReadAsStringAsync()).RootElement.GetProperty("detail").GetString()
        );
        Assert.Single((await bench.GetAsync<MachinesAnswer>("machines")).Machines);
    }
}
