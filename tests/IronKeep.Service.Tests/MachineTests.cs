using System.Net;
using System.Security.Authentication;
using System.Security.Cryptography;
using System.Text;
using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Core.Watching;
using IronKeep.Service.Basics;
using IronKeep.Service.Machines;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>How a machine joins, what its agent may do, and how it loses that.</summary>
public sealed class MachineTests
{
    internal static async Task<Bench> StartAsync(params string[] more)
    {
        var bench = await Bench.StartAsync();
        bench.More = ["--IronKeep:AgentListen=https://127.0.0.1:0", .. more];
        await bench.RestartAsync();
        return bench;
    }

    private static Task<MachineAnswer> MachineAsync(Bench bench, string name) => bench.GetAsync<MachineAnswer>($"machines/{name}");

    [Fact]
    public async Task A_machine_joins_once_by_its_code_and_is_known_by_its_key_from_then_on()
    {
        await using var bench = await StartAsync();
        Assert.Equal(["heron"], (await bench.GetAsync<MachinesAnswer>("machines")).Machines.Select(m => m.Name));
        var enrolled = await bench.SendAsync<EnrolmentAnswer>(HttpMethod.Post, "machines/curlew/enrolment");
        Assert.Equal(bench.Clock.Now.AddHours(1), enrolled.Until);
        Assert.False(enrolled.Replaces);
        Assert.StartsWith("ironkeep-agent join https://127.0.0.1:", enrolled.Command);
        Assert.EndsWith($"--code {enrolled.Code}", enrolled.Command);
        Assert.Equal(
            (AgentState.Enrolled, Bench.Name),
            ((await MachineAsync(bench, "curlew")) is var m ? (m.State, m.EnrolledBy) : default)
        );

        Assert.True(JoinCode.TryParse(enrolled.Code, out var code, out _));
        var secret = Convert.ToHexStringLower(code.Secret.Span);
        using var agent = new TestAgent(bench);
        Assert.Contains("does not know this machine's key", await agent.RefusedAsync("hello", agent.Self()));
        var joined = await agent.SayAsync<AgentAnswer>("join", new JoinRequest(secret, agent.Self()));
        Assert.Equal(("curlew", "heron", bench.Clock.Now.AddDays(60)), (joined.Machine, joined.Service, joined.RightUntil));
        // The code carries the very key that the service showed.
        Assert.Equal(agent.ServicePrint, code.ServicePrint.ToArray());
        Assert.Equal("curlew", (await agent.HelloAsync()).Machine);
        // The answer was lost on the way: said again by the same key it is done, by another it is not.
        await agent.SayAsync<AgentAnswer>("join", new JoinRequest(secret, agent.Self()));
        using var thief = new TestAgent(bench);
        Assert.Contains("shut-out curlew", await thief.RefusedAsync("join", new JoinRequest(secret, thief.Self())));
        Assert.Contains("does not know", await thief.RefusedAsync("hello", thief.Self()));
        var machine = await MachineAsync(bench, "curlew");
        Assert.Equal((AgentState.Joined, "1.2.3", "127.0.0.1"), (machine.State, machine.Version, machine.Address));
        // Neither the code nor its secret is in the catalogue.
        await using var db = await bench.KeepAsync();
        Assert.Equal(SHA256.HashData(code.Secret.Span), Assert.Single(await db.JoiningCodes.ToListAsync()).Hash);
    }

    [Fact]
    public async Task A_code_ends_with_its_hour_and_with_a_newer_one()
    {
        await using var bench = await StartAsync();
        using var agent = new TestAgent(bench);
        var (first, second) = (await TestAgent.SecretAsync(bench, "curlew"), await TestAgent.SecretAsync(bench, "curlew"));
        var other = await TestAgent.SecretAsync(bench, "plover");
        Assert.Contains("a newer one", await agent.RefusedAsync("join", new JoinRequest(first, agent.Self())));
        bench.Clock.Now = bench.Clock.Now.AddHours(1).AddSeconds(1);
        Assert.Contains("for an hour", await agent.RefusedAsync("join", new JoinRequest(second, agent.Self())));
        Assert.Equal(AgentState.None, (await MachineAsync(bench, "heron")).State);
        Assert.DoesNotContain((await bench.GetAsync<MachinesAnswer>("machines")).Machines, m => m.Name is "curlew" or "plover");
        // A clock that is set back gives an old code no new life; exactly an hour is still good.
        bench.Clock.Jump(TimeSpan.FromHours(-3));
        Assert.Contains("not good", await agent.RefusedAsync("join", new JoinRequest(other, agent.Self())));
        var last = await TestAgent.SecretAsync(bench, "plover");
        bench.Clock.Now = bench.Clock.Now.AddHours(1);
        Assert.Equal("plover", (await agent.SayAsync<AgentAnswer>("join", new JoinRequest(last, agent.Self()))).Machine);
    }

    [Fact]
    public async Task Of_two_that_join_at_once_by_one_code_one_gets_in()
    {
        await using var bench = await StartAsync();
        var secret = await TestAgent.SecretAsync(bench, "curlew");
        var agents = Enumerable.Range(0, 6).Select(_ => new TestAgent(bench)).ToList();
        var body = System.Text.Json.JsonSerializer.Serialize(new JoinRequest(secret, agents[0].Self()), ContractJson.Options);
        var answers = await Task.WhenAll(agents.Select(a => a.RawAsync("join", body)));
        Assert.Single(answers, a => a.Status == HttpStatusCode.OK);
        Assert.Equal(5, answers.Count(a => a.Status == HttpStatusCode.Forbidden));
        agents.ForEach(a => a.Dispose());
    }

    [Fact]
    public async Task Who_is_shut_out_is_so_with_the_next_request_and_a_new_code_lets_in_again()
    {
        await using var bench = await StartAsync();
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        using var plover = await TestAgent.JoinedAsync(bench, "plover");
        var waiting = await TestAgent.SecretAsync(bench, "curlew");
        var shut = await bench.SendAsync<MachineAnswer>(HttpMethod.Post, "machines/curlew/shut-out", new ShutOutRequest(" it was stolen "));
        Assert.Equal((AgentState.ShutOut, Bench.Name, "it was stolen"), (shut.State, shut.ShutOutBy, shut.ShutOutWhy));
        Assert.Contains("Machine curlew was shut out", await curlew.RefusedAsync("hello", curlew.Self()));
        // The thief has no use for a code that lay about.
        Assert.Contains("not good", await curlew.RefusedAsync("join", new JoinRequest(waiting, curlew.Self())));
        await plover.HelloAsync();
        foreach (
            var (machine, reason, status, says) in new[]
            {
                ("curlew", "again", HttpStatusCode.Conflict, "shut out already"),
                ("heron", "why not", HttpStatusCode.Conflict, "nothing to take away"),
                ("dunlin", "why not", HttpStatusCode.NotFound, "no machine 'dunlin'"),
                ("plover", "  ", HttpStatusCode.BadRequest, "say why"),
            }
        )
        {
            var answer = await bench.RawAsync(HttpMethod.Post, $"machines/{machine}/shut-out", new ShutOutRequest(reason));
            Assert.Equal(status, answer.StatusCode);
            Assert.Contains(says, await answer.Content.ReadAsStringAsync(), StringComparison.OrdinalIgnoreCase);
        }
        using var replaced = await TestAgent.JoinedAsync(bench, "curlew");
        Assert.Equal("curlew", (await replaced.HelloAsync()).Machine);
        // The old key stays outside: the name has another now.
        Assert.Contains("another took its name", await curlew.RefusedAsync("hello", curlew.Self()));
    }

    [Fact]
    public async Task A_right_that_is_used_goes_on_and_one_that_is_not_lapses()
    {
        await using var bench = await StartAsync();
        await bench.ApplyAsync(bench.Charter() + "\nagent-lapses: 2 days\n");
        using var used = await TestAgent.JoinedAsync(bench, "curlew");
        using var unused = await TestAgent.JoinedAsync(bench, "plover");
        for (var day = 0; day < 4; day++)
        {
            bench.Clock.Now = bench.Clock.Now.AddDays(1);
            Assert.Equal(bench.Clock.Now.AddDays(2), (await used.HelloAsync()).RightUntil);
        }
        Assert.Contains("not heard of for 2 days", await unused.RefusedAsync("hello", unused.Self()));
        Assert.Equal(AgentState.Lapsed, (await MachineAsync(bench, "plover")).State);
        // A contact that is refused renews nothing, but a longer span does.
        Assert.Contains("right ended", await unused.RefusedAsync("hello", unused.Self()));
        await bench.ApplyAsync(bench.Charter() + "\nagent-lapses: 5 days\n");
        await unused.HelloAsync();
        // Heard of by a clock that ran ahead by years and was put right: neither too long nor lapsed.
        bench.Clock.Jump(TimeSpan.FromDays(4000));
        Assert.Contains("right ended", await used.RefusedAsync("hello", used.Self()));
        bench.Clock.Jump(TimeSpan.FromDays(-4000));
        await used.HelloAsync();
        Assert.Equal(bench.Clock.Now, (await MachineAsync(bench, "curlew")).HeardAt);
    }

    [Fact]
    public async Task Contacts_of_many_are_written_down_together_and_those_that_somebody_may_wait_for_at_once()
    {
        await using var bench = await StartAsync();
        await bench.ApplyAsync(bench.Charter() + "\nagent-lapses: 20 days\n");
        using var curlew = await TestAgent.JoinedAsync(bench, "curlew");
        using var plover = await TestAgent.JoinedAsync(bench, "plover");
        var joined = bench.Clock.Now;
        bench.Clock.Now = joined.AddSeconds(70);
        await curlew.HelloAsync();
        Assert.Equal(joined, (await MachineAsync(bench, "curlew")).HeardAt);
        bench.Clock.Now = joined.AddSeconds(76);
        await plover.HelloAsync();
        Assert.Equal(joined.AddSeconds(70), (await MachineAsync(bench, "curlew")).HeardAt);
        Assert.Equal(joined.AddSeconds(76), (await MachineAsync(bench, "plover")).HeardAt);
        // It counted as away, or nearly: whoever waits for it waits no longer.
        bench.Clock.Now = joined.AddSeconds(200);
        await curlew.HelloAsync();
        Assert.Equal(bench.Clock.Now, (await MachineAsync(bench, "curlew")).HeardAt);
        // What was to be written when it was shut out gives it nothing back.
        bench.Clock.Now = joined.AddSeconds(270);
        await curlew.HelloAsync();
        await bench.SendAsync<MachineAnswer>(HttpMethod.Post, "machines/curlew/shut-out", new ShutOutRequest("sold"));
        bench.Clock.Now = joined.AddSeconds(400);
        await plover.HelloAsync();
        Assert.Equal((AgentState.ShutOut, joined.AddSeconds(200)), await StandsAsync(bench));
    }

    private static async Task<(AgentState, DateTimeOffset?)> StandsAsync(Bench bench)
    {
        var curlew = await MachineAsync(bench, "curlew");
        return (curlew.State, curlew.HeardAt);
    }

    [Theory]
    [InlineData(1, 20)]
    [InlineData(1200, 20)]
    [InlineData(2400, 40)]
    [InlineData(100_000, 55)]
    public void The_more_agents_there_are_the_longer_each_waits_and_none_until_it_counts_as_away(int agents, int seconds)
    {
        Assert.Equal(seconds, AgentOrders.WaitAmong(agents).TotalSeconds);
        Assert.True(2 * AgentOrders.WaitAmong(agents) < MachineStandings.AwayAfter);
    }

    [Fact]
    public async Task A_key_has_one_name()
    {
        await using var bench = await StartAsync();
        using var agent = await TestAgent.JoinedAsync(bench, "curlew");
        var secret = await TestAgent.SecretAsync(bench, "plover");
        Assert.Contains("that of machine curlew", await agent.RefusedAsync("join", new JoinRequest(secret, agent.Self())));
        using var fresh = new TestAgent(bench);
        Assert.Equal("plover", (await fresh.SayAsync<AgentAnswer>("join", new JoinRequest(secret, fresh.Self()))).Machine);
    }

    [Fact]
    public async Task Agents_come_to_their_own_address_with_a_key_and_reach_nothing_else()
    {
        await using var bench = await StartAsync();
        using var agent = await TestAgent.JoinedAsync(bench, "curlew");
        foreach (
            var path in (string[])
                ["/", "/api/v1/session", "/api/v1/copies", "/health", "/metrics", "/sign-in", "/agent/v1", "/agent/v1/keys"]
        )
        {
            var (status, text) = await agent.RawAsync(path, "", "GET");
            Assert.Equal(HttpStatusCode.NotFound, status);
            Assert.Contains("nothing that agents may ask", text);
        }
        using var bare = new TestAgent(bench, shows: false);
        await Assert.ThrowsAsync<HttpRequestException>(() => bare.RawAsync("hello", "{}"));
        // Not in the clear, and not with an old TLS.
        var address = new Uri(bench.Services.GetRequiredService<AgentListening>().Address!);
        using var plain = new HttpClient();
        await Assert.ThrowsAnyAsync<HttpRequestException>(() => plain.GetAsync(new Uri($"http://{address.Authority}/agent/v1/hello")));
        // The console's address knows nothing of agents, whoever asks.
        Assert.Equal(HttpStatusCode.MethodNotAllowed, (await bench.Http.PostAsync("/agent/v1/hello", null)).StatusCode);
        using var anonymous = bench.Anonymous();
        Assert.Equal(HttpStatusCode.Unauthorized, (await anonymous.PostAsync("/api/v1/machines/curlew/enrolment", null)).StatusCode);
    }

    public static TheoryData<string, int> Bodies() =>
        new()
        {
            { "", 400 },
            { "null", 400 },
            { "[]", 400 },
            { "{\"version\": null, \"system\": \"x\", \"time\": \"2026-11-23T09:00:00Z\"}", 400 },
            { "{\"version\": \"1\", \"system\": \"x\", \"time\": \"yesterday\"}", 400 },
            { "{\"version\": \"1\", \"system\": \"x\", \"time\": \"2026-11-23T09:00:00Z\", \"machine\": \"plover\"}", 400 },
            { "{\"version\": \"\\u0000\\u202e\\n1\", \"system\": \"😀x\", \"time\": \"9999-12-31T23:59:59Z\"}", 200 },
            { "{\"version\": \"1\", \"system\": \"\\ud800x\", \"time\": \"2026-11-23T09:00:00Z\"}", 400 },
            { "{\"version\": \"1\", \"system\": \"x\", \"time\": \"0001-01-01T00:00:00Z\"}", 200 },
            { $"{{\"version\": \"{new string('v', 1_100_000)}\", \"system\": \"x\", \"time\": \"2026-11-23T09:00:00Z\"}}", 413 },
            { $"{{\"version\": \"{new string('v', 10_000)}\", \"system\": \"x\", \"time\": \"2026-11-23T09:00:00Z\"}}", 200 },
        };

    [Theory]
    [MemberData(nameof(Bodies))]
    public async Task What_an_agent_says_is_taken_or_refused_and_touches_nobody_else(string body, int expected)
    {
        await using var bench = await StartAsync();
        using var agent = await TestAgent.JoinedAsync(bench, "curlew");
        using var other = await TestAgent.JoinedAsync(bench, "plover");
        var before = await MachineAsync(bench, "plover");
        var (status, text) = await agent.RawAsync("hello", body);
        Assert.True((int)status == expected, $"{status}: {text}");
        Assert.DoesNotContain("   at ", text);
        Assert.Equivalent(before, await MachineAsync(bench, "plover"));
        var machine = await MachineAsync(bench, "curlew");
        Assert.DoesNotContain(machine.Version!, char.IsControl);
        Assert.True(machine.Version!.Length <= 200);
        await agent.HelloAsync();
    }

    [Fact]
    public async Task A_clock_that_is_off_is_noted_and_judges_nothing()
    {
        await using var bench = await StartAsync();
        using var agent = await TestAgent.JoinedAsync(bench, "curlew");
        await agent.HelloAsync(ahead: -86_400 * 3000.0);
        var machine = await MachineAsync(bench, "curlew");
        Assert.Equal((AgentState.Joined, -86_400 * 3000.0), (machine.State, machine.ClockAhead!.Value));
        Assert.Equal(bench.Clock.Now, machine.HeardAt);
    }

    [Fact]
    public async Task A_service_without_an_address_for_agents_enrols_nobody()
    {
        await using var bench = await Bench.StartAsync();
        await Says("curlew", HttpStatusCode.Conflict, "IronKeep:AgentListen");
        await Says("heron", HttpStatusCode.Conflict, "needs no agent");
        await Says("Curlew!", HttpStatusCode.BadRequest, "no name of a machine");

        async Task Says(string machine, HttpStatusCode status, string says)
        {
            var answer = await bench.RawAsync(HttpMethod.Post, $"machines/{Uri.EscapeDataString(machine)}/enrolment");
            Assert.Equal(status, answer.StatusCode);
            Assert.Contains(says, await answer.Content.ReadAsStringAsync());
        }
    }

    [Fact]
    public async Task The_services_key_stays_the_same_and_one_that_is_damaged_is_not_replaced()
    {
        await using var bench = await StartAsync("--IronKeep:AgentAddress=https://keep.saltmere.example:7421");
        var print = bench.Services.GetRequiredService<AgentListening>().Print;
        Assert.EndsWith(".example:7421", (await bench.GetAsync<MachinesAnswer>("machines")).AgentsAt!);
        var file = $"{bench.Root}/service/{AgentKey.KeyFile}";
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(file));
        await bench.RestartAsync();
        Assert.Equal(print, bench.Services.GetRequiredService<AgentListening>().Print);
        await bench.StopAsync();
        var kept = File.ReadAllText(file);
        foreach (var damage in new[] { "", kept[..100], "no key" })
        {
            File.WriteAllText(file, damage);
            var refused = await Assert.ThrowsAsync<StartRefusedException>(() => bench.RestartAsync());
            Assert.Contains("bring the file back", refused.Message);
            Assert.Equal(damage, File.ReadAllText(file));
            await bench.StopAsync();
        }
        // Given by the site: a certificate may be renewed, the print is that of its key.
        File.WriteAllText(file, kept);
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP384);
        using var certificate = AgentKey.Certificate(key, "keep.saltmere.example", bench.Clock.Now);
        File.WriteAllText(bench.Root + "/given.pem", certificate.ExportCertificatePem());
        File.WriteAllText(bench.Root + "/given.key", key.ExportPkcs8PrivateKeyPem());
        bench.More =
        [
            "--IronKeep:AgentListen=https://127.0.0.1:0",
            $"--IronKeep:AgentCertificateFile={bench.Root}/given.pem",
            $"--IronKeep:AgentCertificateKeyFile={bench.Root}/given.key",
        ];
        await bench.RestartAsync();
        using var agent = new TestAgent(bench);
        await agent.RefusedAsync("hello", agent.Self());
        Assert.Equal(KeyPrint.Of(certificate), agent.ServicePrint);
    }

    [Theory]
    [InlineData("AgentListen", "http://127.0.0.1:7421", "agents speak TLS only")]
    [InlineData("AgentListen", "https://127.0.0.1:7421/agents", "agents speak TLS only")]
    [InlineData("AgentAddress", "keep.example", "as agents reach it")]
    [InlineData("AgentAddress", "https://keep.example:7421", "AgentListen is not given")]
    [InlineData("AgentCertificateFile", "/no/such.pem", "go together")]
    [InlineData("AllowedCommands", "agent.yaml", "give the absolute path")]
    public void Settings_that_are_wrong_are_said(string name, string value, string says)
    {
        var settings = new ServiceSettings();
        typeof(ServiceSettings).GetProperty(name)!.SetValue(settings, value);
        Assert.Contains(settings.Problems([name]), p => p.Contains(says, StringComparison.Ordinal));
    }
}
