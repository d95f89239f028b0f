using System.Net;
using System.Text.Json;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Service.Definitions;
using IronKeep.Yaml;

namespace IronKeep.Service.Tests;

public sealed class CharterTests
{
    private const string Sound = """
        charter: 1
        zone: Europe/London
        stores:
          cellar:
            folder: /nowhere/cellar
        policies:
          few:
            keep: newest 3
        jobs:
          register:
            takes: /etc/hostname
            into: cellar
            when: daily at 23:00
            policy: few
        """;

    [Theory]
    [InlineData("charter: 1", "charter: 2", 1, 10, "version '2' is not known")]
    [InlineData("zone: Europe/London", "zone: Europe/Londn", 2, 7, "did you mean 'Europe/London'")]
    [InlineData("stores:", "storess:", 3, 1, "did you mean 'stores'")]
    [InlineData("  cellar:", "  Cellar:", 4, 3, "cannot be a name")]
    [InlineData("folder: /nowhere/cellar", "folder: nowhere", 5, 13, "not an absolute path")]
    [InlineData("folder: /nowhere/cellar", "folder: /a/../b", 5, 13, "contains '..'")]
    [InlineData("folder: /nowhere/cellar", "capacity: 10", 5, 5, "'folder' is missing")]
    [InlineData("folder: /nowhere/cellar", "folder: /nowhere/cellar\n    capacity: 10", 6, 15, "has no unit")]
    [InlineData("folder: /nowhere/cellar", "folder: /nowhere/cellar\n    bin: soon", 6, 10, "not a span of time")]
    [InlineData("keep: newest 3", "keep: newest 3 then 2 daily and 1 weekly", 8, 33, "never both")]
    [InlineData("keep: newest 3", "keep: newest 0", 8, 11, "keeps nothing")]
    [InlineData("keep: newest 3", "keep: [a]", 8, 11, "takes a single value, not a list")]
    [InlineData("keep: newest 3", "keep: newest 3\n    at-least: 0", 9, 15, "is not a floor")]
    [InlineData("when: daily at 23:00", "when: daly at 23:00", 13, 11, "did you mean 'daily'")]
    [InlineData("when: daily at 23:00", "when: daily at 23:99", 13, 20, "24-hour clock")]
    [InlineData("into: cellar", "into: celler", 12, 11, "did you mean 'cellar'")]
    [InlineData("policy: few", "policy: many", 14, 13, "there is no policy 'many'")]
    [InlineData("policy: few", "polcy: few", 14, 5, "did you mean 'policy'")]
    [InlineData("takes: /etc/hostname", "takes: []", 11, 5, "the list under 'takes' is empty")]
    [InlineData("takes: /etc/hostname", "takes: /etc/hostname\n    leaves-out: ['[a']", 12, 18, "without its ']'")]
    [InlineData("  register:", "  register: x\n  register:", 11, 3, "is used twice")]
    [InlineData("takes: /etc/hostname", "takes: /nowhere", 10, 3, "would swallow its own store")]
    [InlineData("takes: /etc/hostname", "takes: /nowhere/cellar/x", 10, 3, "lies inside store cellar")]
    [InlineData("policy: few", "policy: few\n    run-limit: 0 hours", 15, 16, "no time at all")]
    [InlineData("policy: few", "policy: few\n    overlap: queue", 15, 14, "use skip or wait")]
    [InlineData("policy: few", "policy: few\n    catch-up: onse", 15, 15, "did you mean 'once'")]
    [InlineData("policy: few", "policy: few\n    retries: 11", 15, 14, "from 0 to 10")]
    [InlineData("policy: few", "policy: few\n    band: half", 15, 11, "is not a band")]
    [InlineData("policy: few", "policy: few\n    tells: crew", 15, 12, "there is no channel, person or rota 'crew'")]
    [InlineData("policy: few", "policy: few\n    after: register", 15, 12, "has both 'when' and 'after'")]
    [InlineData(
        "    when: daily at 23:00\n    policy: few",
        "    after: second\n    policy: few\n  second: { takes: /x, into: cellar, policy: few, after: register }",
        13,
        12,
        "runs in a circle: register after second after register"
    )]
    [InlineData(
        "    when: daily at 23:00\n    policy: few",
        "    after: second\n    policy: few\n  second: { takes: /x, into: cellar, policy: few }",
        13,
        12,
        "would never be due"
    )]
    [InlineData("into: cellar", "into: [cellar, cellar]", 12, 20, "is named twice")]
    [InlineData("folder: /nowhere/cellar", "folder: /etc/hostname/cellar", 4, 3, "cannot be written: /etc/hostname is not a folder")]
    [InlineData("folder: /nowhere/cellar", "folder: /nowhere/cellar\n    verify-within: 30 days", 6, 20, "needs a time at which to read")]
    [InlineData(
        "folder: /nowhere/cellar",
        "folder: /nowhere/cellar\n    key-file: /k\n    passphrase-file: /p",
        7,
        22,
        "opens with a key file or with a passphrase"
    )]
    [InlineData("folder: /nowhere/cellar", "folder: /nowhere/cellar\n    hash: md5", 6, 11, "is not a hash function of ours")]
    [InlineData("folder: /nowhere/cellar", "folder: /nowhere/cellar\n    upload-at-most: 10 B", 6, 21, "would never end")]
    [InlineData("folder: /nowhere/cellar", "folder: /nowhere/cellar\n    host-key: x", 6, 15, "goes with a folder on a server")]
    [InlineData(
        "folder: /nowhere/cellar",
        "folder: sftp://knot/keep\n    host-key: SHA256:abc\n    login-key: /k",
        5,
        13,
        "is not an address"
    )]
    [InlineData(
        "folder: /nowhere/cellar",
        "folder: sftp://me@knot/keep\n    host-key: SHA256:abc\n    login-key: /k",
        6,
        15,
        "is not a fingerprint"
    )]
    [InlineData("folder: /nowhere/cellar", "folder: sftp://me@knot/keep\n    login-key: /k", 5, 5, "by which key the server is known")]
    [InlineData("policy: few", "policy: few\n    compression: 20", 15, 18, "from 1 to 19")]
    [InlineData("folder: /nowhere/cellar", "folder: /nowhere/cellar\n    verify-budget: 1 GB", 6, 20, "a budget needs a time")]
    [InlineData(
        "folder: /nowhere/cellar",
        "folder: /nowhere/cellar\n    capacity: 1 GB\n    warn-below: 2 GB",
        7,
        17,
        "would warn for ever"
    )]
    [InlineData("folder: /nowhere/cellar", "folder: /nowhere/cellar\n    verify: daily", 6, 18, "at")]
    [InlineData("folder: /nowhere/cellar", "folder: /nowhere/cellar\n    reserve: 100 %", 6, 14, "%")]
    [InlineData(
        "folder: /nowhere/cellar",
        "folder: /nowhere/cellar\n    capacity: 1 GB\n    reserve: 1 GB",
        7,
        14,
        "leaves nothing of the capacity"
    )]
    [InlineData("policy: few", "policy: few\n    leaves-out: 'cache[z-a]'", 15, 17, "runs backwards")]
    [InlineData("policy: few", "policy: few\n    leaves-out: 'cache[]'", 15, 17, "an empty '[]'")]
    [InlineData("policy: few", "policy: few\n    leaves-out: 'cache[a[b]]'", 15, 17, "inside")]
    [InlineData("zone: Europe/London", "zone: Europe/London\nduty-mail: daily at 07:00", 3, 12, "needs somebody to go to")]
    [InlineData(
        "stores:",
        "channels:\n  c: { mail-to: nobody, mail-from: a@b.example, pickup: /x }\nstores:",
        4,
        17,
        "is not a mail address"
    )]
    [InlineData("stores:", "channels:\n  c: { mail-to: a@b.example }\nstores:", 4, 6, "says no way to carry")]
    [InlineData("stores:", "channels:\n  c: { pickup: /x, webhook: 'https://y' }\nstores:", 4, 6, "has several ways")]
    [InlineData("stores:", "heartbeat-every: 5 minutes\nstores:", 3, 18, "goes with 'heartbeat-file'")]
    [InlineData("stores:", "heartbeat-file: rel\nstores:", 3, 17, "not an absolute path")]
    [InlineData("stores:", "channels:\n  c: { syslog: 'udp://y', command: page }\nstores:", 4, 6, "has several ways")]
    [InlineData("stores:", "channels:\n  c: { syslog: 'ftp://y' }\nstores:", 4, 16, "is not a receiver of syslog")]
    [InlineData("stores:", "channels:\n  c: { syslog: 'udp://y/path' }\nstores:", 4, 16, "is not a receiver of syslog")]
    [InlineData("stores:", "channels:\n  c: { syslog: 'udp://y', token-file: /x }\nstores:", 4, 39, "goes with mail or a webhook")]
    [InlineData("stores:", "channels:\n  c: { command: /bin/sh }\nstores:", 4, 17, "is not the name of a command")]
    [InlineData("stores:", "channels:\n  c: { command: .. }\nstores:", 4, 17, "is not the name of a command")]
    [InlineData("stores:", "channels:\n  c: { command: page, command-seconds: 51 }\nstores:", 4, 40, "from 1 to 50")]
    [InlineData("stores:", "channels:\n  c: { webhook: 'https://y', command-seconds: 5 }\nstores:", 4, 47, "goes with a command")]
    [InlineData("stores:", "channels:\n  c: { webhook: 'https://y', sign-file: rel }\nstores:", 4, 41, "not an absolute path")]
    [InlineData("stores:", "channels:\n  c: { webhook: 'https://me:secret@y/z' }\nstores:", 4, 17, "must not carry a name or password")]
    [InlineData(
        "stores:",
        "channels:\n  c: { mail-to: a@b.example, mail-from: a@b.example, server: 'mail' }\nstores:",
        4,
        62,
        "is not a server with its port"
    )]
    [InlineData(
        "stores:",
        "channels:\n  c: { mail-to: a@b.example, mail-from: a@b.example, server: 'm:25', security: none, user: u, password-file: /p "
            + "}\nstores:",
        4,
        80,
        "must not travel unprotected"
    )]
    [InlineData("zone: Europe/London", "zone: &a x\nb: *a", 3, 4, "aliases")]
    [InlineData("zone: Europe/London", "zone: [", 3, 1, "not YAML")]
    [InlineData("charter: 1", "--- 1\n--- 2", 2, 1, "one document")]
    public void Each_mistake_has_its_place_and_the_way_out(string right, string wrong, int line, int column, string message)
    {
        var reading = CharterDesk.Check(Sound.Replace(right, wrong, StringComparison.Ordinal));
        Assert.Null(reading.Charter);
        Assert.True(
            reading.Mistakes.Any(m => (m.Line, m.Column) == (line, column) && m.Message.Contains(message, StringComparison.Ordinal)),
            string.Join('\n', reading.Mistakes.Select(m => $"{m.Line}:{m.Column} {m.About}: {m.Message}"))
        );
    }

    [Fact]
    public void All_mistakes_come_at_once_and_a_sibling_with_the_same_prefix_is_none()
    {
        Assert.NotNull(CharterDesk.Check(Sound.Replace("/etc/hostname", "/nowhere/cellar-2", StringComparison.Ordinal)).Charter);
        var many = CharterDesk.Check(
            Sound
                .Replace("newest 3", "newest x", StringComparison.Ordinal)
                .Replace("into: cellar", "into: attic", StringComparison.Ordinal)
                .Replace("23:00", "noon", StringComparison.Ordinal)
        );
        Assert.Equal([8, 12, 13], many.Mistakes.Select(m => m.Line));
    }

    [Fact]
    public void What_is_written_is_read_back_as_the_same_charter()
    {
        var odd = CharterDesk.Check(
            """
            charter: 1
            zone: Australia/Lord_Howe
            stores:
              "007": { folder: "/srv/odd: \"name\" # \\ \t\u2028x", capacity: 1.5 TiB, reserve: 999 B, bin: 0 days }
              on: { folder: /srv/on }
            policies:
              p: { keep: "all within 3 days, 7 daily", at-least: 7, zone: Asia/Kolkata }
            jobs:
              null-job: { takes: ["/srv/a b", "/srv/'c'", "/srv/täglich"], leaves-out: ["*.tmp", "!keep me", "[a-z]*"], into: "007", policy: p }
              j2: { takes: /x, into: on, policy: p, when: "every 90 minutes between 22:30 and 01:00 on fri-mon", zone: America/Santiago, fresh-within: 36 hours }
            """
        );
        Assert.Empty(odd.Mistakes);
        var again = CharterYaml.Read(CharterWriter.Write(odd.Charter!));
        Assert.Empty(again.Mistakes);
        Assert.Empty(CharterDiff.Compare(odd.Charter!, again.Charter!));
        Assert.Equal(odd.Charter!.Jobs["j2"], again.Charter!.Jobs["j2"]);
        Assert.Equal(odd.Charter.Stores.Values, again.Charter.Stores.Values);
    }

    [Fact]
    public void Noise_is_refused_quickly_and_never_by_falling_over()
    {
        var random = new Random(5);
        for (var i = 0; i < 2000; i++)
        {
            var text = Sound.ToCharArray();
            for (var n = random.Next(1, 6); n > 0; n--)
                text[random.Next(text.Length)] = (char)random.Next(i % 2 == 0 ? 127 : 0xFFFF);
            var reading = CharterDesk.Check(new string(text));
            Assert.Equal(reading.Charter is null, reading.Mistakes.Length > 0);
            Assert.All(reading.Mistakes, m => Assert.True(m is { Line: > 0, Column: > 0, Message.Length: > 10 }));
        }
        Assert.Contains("nested too deeply", CharterDesk.Check(new string('[', 5000)).Mistakes[0].Message);
        var large = "charter: 1\njobs:\n" + string.Concat(Enumerable.Range(0, 100_000).Select(i => $"  j{i}: x\n"));
        Assert.Equal(100_000, CharterDesk.Check(large).Mistakes.Length);
        Assert.Contains("the most is", CharterDesk.Check(new string('a', CharterYaml.LargestText + 1)).Mistakes[0].Message);
    }

    [Fact]
    public async Task Applying_is_whole_or_not_at_all_and_never_over_somebody_else()
    {
        await using var bench = await Bench.StartAsync();
        // The second store cannot be made: its parent is a file.
        bench.Write("file", "");
        var broken = bench.Charter() + $"\nstores2:\n";
        using (var refused = await bench.RawAsync(HttpMethod.Put, "charter", new CharterText(broken)))
            Assert.Equal(HttpStatusCode.BadRequest, refused.StatusCode);
        var unmakeable = bench
            .Charter()
            .Replace("stores:", $"stores:\n  attic: {{ folder: /etc/hostname/attic }}", StringComparison.Ordinal);
        using (var refused = await bench.RawAsync(HttpMethod.Put, "charter", new CharterText(unmakeable)))
        {
            Assert.Equal(HttpStatusCode.BadRequest, refused.StatusCode);
            Assert.Contains("store attic cannot be written", await refused.Content.ReadAsStringAsync());
        }
        Assert.Equal(0, (await bench.GetAsync<CharterAnswer>("charter")).Revision);
        Assert.Empty(await bench.GetAsync<List<JobAnswer>>("jobs"));

        await bench.ApplyAsync(bench.Charter());
        var inForce = await bench.GetAsync<CharterAnswer>("charter");
        Assert.Equal(1, inForce.Revision);
        using var late = new HttpRequestMessage(HttpMethod.Put, "/api/v1/charter")
        {
            Content = System.Net.Http.Json.JsonContent.Create(
                new CharterText(bench.Charter("daily at 05:00")),
                options: ContractJson.Options
            ),
        };
        late.Headers.TryAddWithoutValidation("If-Match", "\"r0\"");
        using (var refused = await bench.Http.SendAsync(late))
            Assert.Contains("somebody applied another since", await refused.Content.ReadAsStringAsync());

        // The exported text says what is in force, and a restart forgets nothing.
        Assert.Empty((await bench.SendAsync<CharterDiffAnswer>(HttpMethod.Post, "charter/diff", new CharterText(inForce.Yaml))).Changes);
        await bench.RestartAsync();
        Assert.Equal(inForce.Yaml, (await bench.GetAsync<CharterAnswer>("charter")).Yaml);
        var diff = await bench.SendAsync<CharterDiffAnswer>(
            HttpMethod.Post,
            "charter/diff",
            new CharterText(bench.Charter("daily at 05:00"))
        );
        var change = Assert.Single(diff.Changes);
        Assert.Equal(("changed", "job", "register"), (change.Change.Word(), change.Object, change.Name));
        Assert.Equal(new FieldChangeAnswer("when", "daily at 23:00", "daily at 05:00"), Assert.Single(change.Fields));
    }
}
