using IronKeep.Catalogue;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Service.Charters;
using IronKeep.Service.Definitions;

namespace IronKeep.Service.Tests;

/// <summary>
/// A source and a store must not contain each other, in any direction, through links and through paths that do not exist yet.
/// </summary>
public sealed class PlaceRuleTests : IDisposable
{
    private readonly string root = Directory.CreateTempSubdirectory("places-").FullName;

    public void Dispose() => Directory.Delete(root, true);

    [Theory]
    [InlineData("data", "keep", false)]
    [InlineData("data", "data", true)]
    [InlineData("data", "data/keep", true)]
    [InlineData("data/deep", "data", true)]
    [InlineData("data", "data-2/keep", false)]
    [InlineData("data-2", "data", false)]
    // A link to the data, a link above the store, a link to what does not exist yet, a chain of two.
    [InlineData("link", "data/keep", true)]
    [InlineData("data", "link/not/yet", true)]
    [InlineData("data", "twice/keep", true)]
    [InlineData("link", "keep", false)]
    [InlineData("not-yet", "not-yet/keep", true)]
    public void Is_found_out_whatever_way_it_is_written(string source, string store, bool unsafePlace)
    {
        foreach (var folder in new[] { "data/deep", "data-2", "keep" })
            Directory.CreateDirectory(Path.Combine(root, folder));
        Directory.CreateSymbolicLink(Path.Combine(root, "link"), Path.Combine(root, "data"));
        Directory.CreateSymbolicLink(Path.Combine(root, "twice"), "link");
        var job = new JobDefinition("job", [Path.Combine(root, source)], ["s"], "p");
        var stores = new[] { new StoreDefinition("s", Path.Combine(root, store), null, null, new Span(7, SpanUnit.Days)) };
        var why = PlaceRules.Unsafe(job, stores);
        Assert.Equal(unsafePlace, why is not null);
        if (why is not null)
            Assert.Contains(Path.Combine(root, store), why);
    }

    [Fact]
    public void Two_stores_in_one_folder_are_a_mistake_at_the_place_of_the_second()
    {
        Directory.CreateDirectory(root + "/keep");
        Directory.CreateSymbolicLink(root + "/also", root + "/keep");
        var reading = CharterDesk.Check($"charter: 1\nstores:\n  a: {{ folder: {root}/keep }}\n  b: {{ folder: {root}/also/inner }}\n");
        var mistake = Assert.Single(reading.Mistakes);
        Assert.Equal((4, 3, "store b"), (mistake.Line, mistake.Column, mistake.About));
        Assert.Contains("give each its own", mistake.Message);
    }
}
