using System.Net;
using IronKeep.Contracts;
using IronKeep.Core.Quantities;
using IronKeep.Core.Watching;
using IronKeep.Runs.Tests;

namespace IronKeep.Service.Tests;

/// <summary>Machines without an agent that the service reads over SFTP, from a real OpenSSH server on loopback.</summary>
public sealed class ReadOverTests
{
    private static string Address(SshServer server) => $"sftp://{Environment.UserName}@127.0.0.1:{server.Port}";

    private static string Charter(Bench bench, SshServer server, string more = "") =>
        bench
            .Charter(more: $"on: tern{more}")
            .Replace(
                "stores:",
                $"machines: {{ tern: {{ read-over: '{Address(server)}', host-key: '{server.Fingerprint}', "
                    + $"login-key: {server.LoginKey} }} }}\nsteps: {{ stop: {{ command: [stop] }} }}\nstores:",
                StringComparison.Ordinal
            );

    [Fact]
    public async Task Its_jobs_run_as_any_with_its_name_on_their_copies_and_what_does_not_travel_is_said_once()
    {
        await using var bench = await MachineTests.StartAsync();
        using var server = new SshServer(bench.Root + "/ssh");
        await bench.ApplyAsync(Charter(bench, server));
        await File.WriteAllTextAsync(bench.Source + "/a", "birds");
        var run = await bench.RunAsync("jobs/register/runs");
        Assert.Equal((Outcome.Ok, "tern"), (run.Outcome, run.Machine));
        var log = (await bench.GetAsync<RunLogAnswer>($"runs/{run.Id}/log")).Lines;
        Assert.Single(log, l => l.Text.Contains("does not carry", StringComparison.Ordinal));
        var copy = Assert.Single(await bench.CopiesAsync());
        Assert.Equal("tern", copy.Machine);
        var restore = await bench.RunAsync($"copies/{copy.Id}/restores", new RestoreRequest([], bench.Root + "/back"));
        Assert.Equal(Outcome.Ok, restore.Outcome);
        Assert.Equal("birds", await File.ReadAllTextAsync(bench.Root + "/back" + bench.Source + "/a"));

        // No agent is wanted there, and none could be told to write there.
        using var enrol = await bench.RawAsync(HttpMethod.Post, "machines/tern/enrolment");
        Assert.Equal(HttpStatusCode.Conflict, enrol.StatusCode);
        Assert.Contains("read-over", await enrol.Content.ReadAsStringAsync());
        var tern = (await bench.GetAsync<MachinesAnswer>("machines")).Machines.Single(m => m.Name == "tern");
        Assert.Equal(Address(server), tern.ReadOver);

        server.Stop();
        run = await bench.RunAsync("jobs/register/runs");
        Assert.Equal((Outcome.Failed, FailureClass.MachineAway), (run.Outcome, run.Failure!.Value));
        Assert.Single(await bench.CopiesAsync());
    }

    [Theory]
    [InlineData("\n    before: stop", "has steps")]
    [InlineData("\n    still-at: [/srv at /run/still]", "has moments that are held still")]
    [InlineData("\n    needs: [mains power]", "has needs")]
    public async Task What_needs_somebody_there_is_a_mistake(string more, string said)
    {
        await using var bench = await MachineTests.StartAsync();
        using var server = new SshServer(bench.Root + "/ssh");
        using var answer = await bench.RawAsync(HttpMethod.Put, "charter?confirm=true", new CharterText(Charter(bench, server, more)));
        Assert.Equal(HttpStatusCode.BadRequest, answer.StatusCode);
        Assert.Contains(said, await answer.Content.ReadAsStringAsync());
    }
}
