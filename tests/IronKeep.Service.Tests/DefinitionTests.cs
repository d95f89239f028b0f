using System.Net;
using System.Net.Http.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Retention;
using IronKeep.Service.Definitions;
using IronKeep.Yaml;

namespace IronKeep.Service.Tests;

/// <summary>Objects one by one and the charter as a whole are two ways to one model.</summary>
public sealed class DefinitionTests
{
    [Fact]
    public async Task An_object_is_read_changed_made_and_taken_out_and_the_charter_says_the_same()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        var job = await bench.GetAsync<DefinitionAnswer>("definitions/job/register");
        Assert.Equal("daily at 23:00", Assert.Single(job.Fields["when"]));
        var changed = job.Fields.ToDictionary(f => f.Key, f => f.Value);
        changed["when"] = ["weekdays at 05:00"];
        changed["leaves-out"] = ["*.tmp", "cache/"];
        using (var saved = await SendAsync(bench, HttpMethod.Put, "job/register", changed, job.Tag))
            Assert.Equal(HttpStatusCode.OK, saved.StatusCode);
        using (var made = await SendAsync(bench, HttpMethod.Put, "policy/long", new() { ["keep"] = ["7 daily"] }, "*"))
            Assert.Equal(HttpStatusCode.OK, made.StatusCode);
        var yaml = (await bench.GetAsync<CharterAnswer>("charter")).Yaml;
        Assert.Contains("when: weekdays at 05:00", yaml);
        Assert.Contains("keep: 7 daily", yaml);
        Assert.Equal("weekdays at 05:00", (await bench.GetAsync<JobAnswer>("jobs/register")).When);
        // And the other way round: what a charter changes, the object shows.
        await bench.ApplyAsync(yaml.Replace("weekdays at 05:00", "every 2 hours", StringComparison.Ordinal));
        var seen = await bench.GetAsync<DefinitionAnswer>("definitions/job/register");
        Assert.Equal("every 2 hours", Assert.Single(seen.Fields["when"]));
        var policy = await bench.GetAsync<DefinitionAnswer>("definitions/policy/long");
        using (var gone = await SendAsync(bench, HttpMethod.Delete, "policy/long", null, policy.Tag))
            Assert.Equal(HttpStatusCode.OK, gone.StatusCode);
        Assert.Equal(
            ["settings", "store", "policy", "job"],
            (await bench.GetAsync<List<DefinitionAnswer>>("definitions")).Select(d => d.Kind)
        );
    }

    [Fact]
    public async Task Nobody_writes_over_what_another_has_changed_since()
    {
        await using var bench = await Bench.StartAsync();
        await bench.ApplyAsync(bench.Charter());
        var seen = await bench.GetAsync<DefinitionAnswer>("definitions/job/register");
        var mine = seen.Fields.ToDictionary(f => f.Key, f => f.Value);
        mine["when"] = ["daily at 01:00"];
        using (var first = await SendAsync(bench, HttpMethod.Put, "job/register", mine, seen.Tag))
            Assert.Equal(HttpStatusCode.OK, first.StatusCode);
        mine["when"] = ["daily at 02:00"];
        foreach (
            var (method, path, tag, status, says) in new[]
            {
                (HttpMethod.Put, "job/register", seen.Tag, 412, "was changed by somebody since"),
                (HttpMethod.Put, "job/register", null, 428, "Send its ETag"),
                (HttpMethod.Put, "job/register", "*", 412, "There is a job register already"),
                (HttpMethod.Put, "job/other", null, 428, "If-None-Match"),
                (HttpMethod.Delete, "job/register", seen.Tag, 412, "was changed by somebody since"),
                (HttpMethod.Delete, "job/none", seen.Tag, 404, "no job 'none' in the charter"),
                (HttpMethod.Put, "dream/x", "*", 404, "'dream' is not a kind"),
                (HttpMethod.Put, "job/Bad Name", "*", 400, "cannot be a name"),
                (HttpMethod.Delete, "settings/charter", "\"x\"", 409, "cannot be taken out"),
            }
        )
        {
            using var refused = await SendAsync(bench, method, path, method == HttpMethod.Put ? mine : null, tag);
            var text = await refused.Content.ReadAsStringAsync();
            Assert.True(
                (int)refused.StatusCode == status && text.Contains(says, StringComparison.Ordinal),
                $"{method} {path}: {(int)refused.StatusCode} {text}"
            );
        }
        Assert.Equal("daily at 01:00", (await bench.GetAsync<JobAnswer>("jobs/register")).When);
        // Twenty at once with the same tag: one wins.
        var now = await bench.GetAsync<DefinitionAnswer>("definitions/job/register");
        var tries = await Task.WhenAll(
            Enumerable
                .Range(0, 20)
                .Select(async i =>
                {
                    var fields = now.Fields.ToDictionary(f => f.Key, f => f.Value);
                    fields["when"] = [$"daily at 03:{i:00}"];
                    using var answer = await SendAsync(bench, HttpMethod.Put, "job/register", fields, now.Tag);
                    return answer.StatusCode;
                })
        );
        Assert.Equal(1, tries.Count(t => t == HttpStatusCode.OK));
    }

    [Fact]
    public async Task A_preview_names_mistakes_by_field_and_shows_the_effect_before_anything_is_saved()
    {
        await using var bench = await Bench.StartAsync();
        bench.Write("a", "12345");
        await bench.ApplyAsync(bench.Charter());
        for (var i = 0; i < 4; i++)
        {
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            await bench.BackUpAsync();
        }
        var wrong = await PreviewAsync(
            "job/new-one",
            new()
            {
                ["takes"] = [bench.Source, "relative"],
                ["into"] = ["celler"],
                ["when"] = ["daily at 25:00"],
                ["tels"] = ["x"],
                ["run-limit"] = ["0 hours"],
            }
        );
        Assert.Equal(
            [
                "takes 1 not an absolute path",
                "into 0 did you mean 'cellar'",
                "when 0 24-hour clock",
                "tels 0 did you mean 'tells'",
                "run-limit 0 no time at all",
                "policy 0 is missing",
            ],
            wrong
                .Mistakes.OrderBy(m => Array.IndexOf(["takes", "into", "when", "tels", "run-limit", "policy"], m.Field))
                .Select(m =>
                    $"{m.Field} {m.Item} "
                    + new[]
                    {
                        "not an absolute path",
                        "did you mean 'cellar'",
                        "24-hour clock",
                        "did you mean 'tells'",
                        "no time at all",
                        "is missing",
                    }.First(w => m.Message.Contains(w, StringComparison.Ordinal))
                )
        );
        Assert.Equal(9, wrong.Mistakes.Single(m => m.Field == "when").Position);
        var right = await PreviewAsync(
            "job/register",
            new()
            {
                ["takes"] = [bench.Source, "/nowhere/yet"],
                ["into"] = ["cellar"],
                ["policy"] = ["few"],
                ["when"] = ["every 4 hours"],
            }
        );
        Assert.Empty(right.Mistakes);
        Assert.Equal(5, right.NextDue.Count);
        Assert.Matches("^will keep 2 copies, the oldest up to [4-8] hours old, with a copy every 4 hours$", right.SteadyState);
        Assert.Equal(["True 1 5", "False 0 0"], right.Paths.Select(p => $"{p.Exists} {p.Items} {p.Bytes}"));
        Assert.Equal(["takes", "when"], Assert.Single(right.Changes).Fields.Select(f => f.Field));
        var policy = await PreviewAsync("policy/few", new() { ["keep"] = ["newest 3"] });
        Assert.Equal(("register", 3, 1), (policy.Policies[0].Job, policy.Policies[0].Keeps, policy.Policies[0].Expires));
        // Taking out what others need is refused with their names.
        var few = await bench.GetAsync<DefinitionAnswer>("definitions/policy/few");
        using var needed = await SendAsync(bench, HttpMethod.Delete, "policy/few", null, few.Tag);
        Assert.Contains("there is no policy 'few'", await needed.Content.ReadAsStringAsync());
        Assert.Equal(1, (await bench.GetAsync<CharterAnswer>("charter")).Revision);

        Task<PreviewAnswer> PreviewAsync(string path, Dictionary<string, IReadOnlyList<string>> fields) =>
            bench.SendAsync<PreviewAnswer>(HttpMethod.Post, $"definitions/{path}/preview", new DefinitionRequest(fields));
    }

    [Fact]
    public void Every_field_that_is_written_is_one_that_is_read()
    {
        var full = CharterDesk.Check(
            """
            charter: 1
            zone: Europe/Berlin
            tells: [post, hook]
            duty-mail: weekdays at 07:30
            stores:
              s: { folder: /nowhere/s, capacity: 5 TB, reserve: 1 GiB, bin: 9 days, warn-below: 20 GB, verify: sat at 03:00, verify-budget: 2 GB, reclaim: every 6 hours, verify-within: 40 days, key-file: /etc/s.key, hash: sha-256, upload-at-most: 2 MB, download-at-most: 3 MB }
              far: { folder: "sftp://me@knot.saltmere.example:2222/srv/keep", host-key: "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", login-key: /etc/login, passphrase-file: /etc/phrase }
            policies:
              p: { keep: "newest 3 then 7 daily", at-least: 4, zone: Asia/Tokyo }
            channels:
              post: { mail-to: [a@b.example, c@d.example], mail-from: e@f.example, server: "mail.example:465", security: tls, user: me, password-file: /etc/secret }
              drop: { mail-to: a@b.example, mail-from: e@f.example, pickup: /var/spool/x }
              hook: { webhook: "https://example.org/x?y=1", token-file: /etc/token }
            jobs:
              first: { takes: [/a, "/b c"], leaves-out: ["*.tmp"], leaves-out-caches: yes, other-file-systems: yes, compression: 6, into: s, when: daily at 01:00, zone: Asia/Kolkata, policy: p, fresh-within: 2 days, start-limit: 5 minutes, run-limit: 3 hours,
                catch-up: none, wait-after-return: 1 hours, catch-up-gap: 4 hours, overlap: wait, retries: 3, band: "25 % and 5 MB", prune: after-success, tells: hook, tell-when: always }
              second: { takes: /x, into: s, after: first, policy: p }
            """
        );
        Assert.Empty(full.Mistakes);
        var again = CharterYaml.Read(CharterWriter.Write(full.Charter!));
        Assert.Empty(again.Mistakes);
        Assert.Empty(CharterDiff.Compare(full.Charter!, again.Charter!));
        Assert.Equal(full.Charter!.Jobs.Values, again.Charter!.Jobs.Values);
        Assert.Equal(full.Charter.Channels.Values, again.Charter.Channels.Values);
        Assert.Equal(full.Charter.Stores.Values, again.Charter.Stores.Values);
        // Nothing that was said is left out: every key of the text above is a field of its object.
        Assert.Equal(21, CharterFields.Find(full.Charter, "job", "first")!.Value.Length);
        Assert.Equal(13, CharterFields.Find(full.Charter, "store", "s")!.Value.Length);
    }

    private static async Task<HttpResponseMessage> SendAsync(
        Bench bench,
        HttpMethod method,
        string path,
        Dictionary<string, IReadOnlyList<string>>? fields,
        string? tag
    )
    {
        using var request = new HttpRequestMessage(method, "/api/v1/definitions/" + path);
        if (fields is not null)
            request.Content = JsonContent.Create(new DefinitionRequest(fields), options: ContractJson.Options);
        if (tag is not null)
            request.Headers.TryAddWithoutValidation(tag == "*" ? "If-None-Match" : "If-Match", tag);
        return await bench.Http.SendAsync(request);
    }
}
