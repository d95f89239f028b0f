using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Runs.Steps;

namespace IronKeep.Runs.Tests;

/// <summary>A service that is to be up is started again, at most so often, and never while a run stopped it on purpose.</summary>
public sealed class ServiceWatchTests : IDisposable
{
    private readonly string root = Directory.CreateTempSubdirectory("watch-").FullName;
    private readonly List<string> said = [];
    private readonly Hands clock = new();
    private OwedSteps Notes => field ??= new OwedSteps(root + "/owed");
    private string allows = "sh";

    public void Dispose() => Directory.Delete(root, true);

    private sealed class Hands : TimeProvider
    {
        public DateTimeOffset At { get; set; } = new(2026, 12, 1, 2, 0, 0, TimeSpan.Zero);

        public override DateTimeOffset GetUtcNow() => At;
    }

    private static RunStep Step(string name, string script) => new(name, ["sh", "-c", script], null, TimeSpan.FromSeconds(20));

    /// <summary>Up where a file is there; started by making it, which is traced, as far as that works.</summary>
    private ServiceWatch Watch(string start = "", int times = 3)
    {
        var runner = new StepRunner(() => new AllowedCommands([new StepDefinition("any", [allows, "-c", "*"])]), "agent.yaml");
        var watch = new ServiceWatch(runner, Notes, root + "/starts.json", clock, said.Add);
        var starts = $"echo $IRONKEEP_JOB >> {root}/trace; " + (start.Length > 0 ? start : $"touch {root}/up");
        watch.Keep([
            new KeptService("register", Step("register-up", $"test -e {root}/up"), Step("start", starts), times, TimeSpan.FromHours(1)),
        ]);
        return watch;
    }

    private string Trace =>
        File.Exists(root + "/trace") ? File.ReadAllText(root + "/trace").Replace("\n", " ", StringComparison.Ordinal) : "";

    private static ServiceStanding Of(ServiceWatch watch) => Assert.Single(watch.Now);

    [Fact]
    public async Task What_is_down_is_started_and_what_is_up_is_left_alone()
    {
        var watch = Watch();
        Assert.Empty(watch.Now);
        await watch.LookAsync(default);
        var standing = Of(watch);
        Assert.Equal((true, clock.At, "register "), (standing.Up, standing.Since, Trace));
        Assert.Equal([clock.At], standing.Starts);
        Assert.Contains("is down (step register-up ended with 1", said[0]);
        var since = clock.At;
        clock.At += TimeSpan.FromMinutes(5);
        await watch.LookAsync(default);
        Assert.Equal((true, since, "register "), (Of(watch).Up, Of(watch).Since, Trace));
        // One that is watched no more is not shown any more.
        watch.Keep([]);
        Assert.Empty(watch.Now);
    }

    [Fact]
    public async Task It_is_started_so_often_and_no_more_also_by_a_program_that_was_started_anew()
    {
        var watch = Watch("echo port in use >&2; exit 7", times: 2);
        await watch.LookAsync(default);
        Assert.Equal((false, "step start, which starts it, ended with 7: port in use"), (Of(watch).Up, Of(watch).Problem));
        clock.At += TimeSpan.FromMinutes(1);
        await watch.LookAsync(default);
        Assert.Equal("register register ", Trace);
        clock.At += TimeSpan.FromMinutes(1);
        await Watch("exit 7", times: 2).LookAsync(default);
        var third = Watch("exit 7", times: 2);
        await third.LookAsync(default);
        Assert.Equal("register register ", Trace);
        Assert.Equal(
            "it was started 2 times within 1 hour and is down again; it is not started before 2026-12-01 03:00Z",
            Of(third).Problem
        );
        // Exactly an hour after the first there is room for one.
        clock.At = new DateTimeOffset(2026, 12, 1, 2, 59, 59, TimeSpan.Zero);
        await third.LookAsync(default);
        Assert.Equal("register register ", Trace);
        clock.At += TimeSpan.FromSeconds(1);
        await third.LookAsync(default);
        Assert.Equal("register register register ", Trace);
        // A clock that was set back frees it, for what was noted then lies ahead.
        clock.At -= TimeSpan.FromDays(1);
        await third.LookAsync(default);
        Assert.Equal("register register register register ", Trace);
        File.WriteAllText(root + "/starts.json", "{");
        await Watch("exit 7", times: 1).LookAsync(default);
        Assert.Contains(said, s => s.Contains("cannot be read", StringComparison.Ordinal));
    }

    [Fact]
    public async Task A_run_that_stopped_it_on_purpose_is_left_alone()
    {
        var watch = Watch();
        var steps = new RunSteps([], null, TimeSpan.Zero, [], [], []);
        await Notes.NoteAsync(new OwedRun(7, "register", clock.At, steps), default);
        await watch.LookAsync(default);
        Assert.Equal(("", 0), (Trace, watch.Now.Count));
        Notes.Done(7);
        await Notes.NoteAsync(new OwedRun(8, "another", clock.At, steps), default);
        await watch.LookAsync(default);
        Assert.Equal("register ", Trace);
        // A note that cannot be read may be one of this job.
        File.Delete(root + "/up");
        File.WriteAllText(root + "/owed/9.json", "{");
        await watch.LookAsync(default);
        Assert.Equal("register ", Trace);
    }

    /// <summary>A run that begins while the service is being started waits for that, so that its step is the last word.</summary>
    [Fact]
    public async Task A_run_begins_its_steps_before_or_after_a_start()
    {
        var watch = Watch($"touch {root}/begun; sleep 1; touch {root}/up");
        var look = watch.LookAsync(default);
        while (!File.Exists(root + "/begun"))
            await Task.Delay(10);
        await Notes.NoteAsync(new OwedRun(7, "register", clock.At, new RunSteps([], null, TimeSpan.Zero, [], [], [])), default);
        Assert.True(File.Exists(root + "/up"));
        await look;
    }

    [Fact]
    public async Task What_the_machine_does_not_allow_says_nothing_of_the_service()
    {
        allows = "bash";
        var watch = Watch();
        await watch.LookAsync(default);
        Assert.Equal((null, ""), (Of(watch).Up, Trace));
        Assert.Contains("step register-up, which says whether it is up, is not allowed on this machine", Of(watch).Problem);
    }
}
