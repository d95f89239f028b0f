using System.Net;
using System.Text.Json;
using IronKeep.Contracts;
using IronKeep.Core.Rotation;

namespace IronKeep.Service.Tests;

/// <summary>Ready schemes of rotation media are looked at without a change, and come into the charter whole or not at all.</summary>
public sealed class SchemeTests
{
    private static Task<SchemePlayAnswer> LookAsync(Bench bench, string scheme, SchemeRequest request) =>
        bench.SendAsync<SchemePlayAnswer>(HttpMethod.Post, $"rotations/schemes/{scheme}/preview?nights=60", request);

    private static async Task<string> RefusedAsync(Bench bench, string scheme, HttpStatusCode status, SchemeRequest request)
    {
        using var answer = await bench.RawAsync(HttpMethod.Post, $"rotations/schemes/{scheme}", request);
        Assert.Equal(status, answer.StatusCode);
        return JsonDocument.Parse(await answer.Content.ReadAsStringAsync()).RootElement.GetProperty("detail").GetString()!;
    }

    [Fact]
    public async Task Each_scheme_is_shown_and_then_is_in_the_charter_as_it_was_shown()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        var revision = (await bench.GetAsync<CharterAnswer>("charter")).Revision;
        var schemes = await bench.GetAsync<List<SchemeAnswer>>("rotations/schemes");
        Assert.Equal(ReadyScheme.All.Select(s => s.Name), schemes.Select(s => s.Name));
        foreach (var scheme in schemes)
        {
            var request = new SchemeRequest($"set-{scheme.Name}", "21:30", "2027-03-01");
            var shown = await LookAsync(bench, scheme.Name, request);
            Assert.Empty(shown.Mistakes);
            Assert.Equal(revision, (await bench.GetAsync<CharterAnswer>("charter")).Revision);
            Assert.Equal(60, shown.Nights.Count);
            Assert.Equal(shown.Media, shown.Groups.Sum(g => g.Media.Count));
            await bench.SendAsync<SchemePlayAnswer>(HttpMethod.Post, $"rotations/schemes/{scheme.Name}", request);
            Assert.Equal(++revision, (await bench.GetAsync<CharterAnswer>("charter")).Revision);
            var sets = await bench.GetAsync<List<RotationAnswer>>("rotations?first=2027-03-01&nights=60");
            // What is played from the charter is what was promised, and its groups have just what they need.
            var set = sets.Single(s => s.Set == request.Set);
            Assert.Equal(shown.Nights.Select(n => (n.Date, n.Medium, n.Appends)), set.Nights.Select(n => (n.Date, n.Medium, n.Appends)));
            Assert.DoesNotContain(set.Nights, n => n.Short);
            Assert.All(set.Groups, g => Assert.True(g.Enough <= g.Has, g.Group));
        }
        Assert.Contains("set-two-disks-disks", (await bench.GetAsync<CharterAnswer>("charter")).Yaml, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("Ferry", null, null, "", 0, "'Ferry' cannot be a name")]
    [InlineData("ferry", "25:00", null, "", 0, "Start: ")]
    [InlineData("ferry", null, "2027-02-30", "", 0, "First: ")]
    [InlineData("ferry", null, "9998-12-31", "", 0, "First: 9998-12-31 is more than ten years away")]
    [InlineData("ferry", null, "1900-01-01", "", 0, "First: 1900-01-01 is more than ten years away")]
    [InlineData("ferry", null, null, "moons", 3, "Two-disks has no number 'moons'")]
    [InlineData("ferry", null, null, "nights", 93, "Nights 93 is out of range; use 1 to 92")]
    [InlineData("taken", null, null, "", 0, "There is a rotation set taken already")]
    [InlineData("other", null, null, "", 0, "medium 'other-disk-1'")]
    public async Task What_cannot_be_is_named_and_nothing_comes(
        string set,
        string? start,
        string? first,
        string number,
        int value,
        string mistake
    )
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        await bench.SendAsync<SchemePlayAnswer>(HttpMethod.Post, "rotations/schemes/two-disks", new SchemeRequest("taken"));
        // A group of somebody's own has a medium that a set of this name would have as well.
        await bench.ApplyAsync(
            (await bench.GetAsync<CharterAnswer>("charter")).Yaml.Replace("taken-disk-2", "other-disk-1", StringComparison.Ordinal)
        );
        var before = await bench.GetAsync<CharterAnswer>("charter");
        var numbers = number.Length > 0 ? new Dictionary<string, int> { [number] = value } : null;
        var request = new SchemeRequest(set, start, first, numbers);
        var shown = await LookAsync(bench, "two-disks", request);
        Assert.Contains(mistake, string.Join(" ", shown.Mistakes), StringComparison.Ordinal);
        Assert.Empty(shown.Nights);
        var problem = await RefusedAsync(bench, "two-disks", HttpStatusCode.BadRequest, request);
        Assert.Contains(mistake, problem, StringComparison.Ordinal);
        Assert.Equal(before.Revision, (await bench.GetAsync<CharterAnswer>("charter")).Revision);
    }

    [Theory]
    [InlineData("9999-12-31", HttpStatusCode.BadRequest)]
    [InlineData("2056-11-23", HttpStatusCode.OK)]
    [InlineData("0001-01-01", HttpStatusCode.OK)]
    public async Task A_calendar_is_played_so_far_ahead_and_no_further(string first, HttpStatusCode status)
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        await bench.SendAsync<SchemePlayAnswer>(HttpMethod.Post, "rotations/schemes/round-robin", new SchemeRequest("ferry"));
        using var answer = await bench.RawAsync(HttpMethod.Get, $"rotations?first={first}&nights=800");
        Assert.Equal(status, answer.StatusCode);
    }

    [Fact]
    public async Task A_scheme_that_there_is_not_is_refused_with_those_that_there_are()
    {
        await using var bench = await Bench.StartAsync();
        var problem = await RefusedAsync(bench, "moon/preview", HttpStatusCode.NotFound, new SchemeRequest("ferry"));
        Assert.Contains("There is no ready scheme 'moon'; there are weekday-to-yearly, round-robin", problem, StringComparison.Ordinal);
    }
}
