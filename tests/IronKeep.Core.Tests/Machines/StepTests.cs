using IronKeep.Core.Charters;
using IronKeep.Core.Machines;
using IronKeep.Yaml;

namespace IronKeep.Core.Tests.Machines;

/// <summary>Steps as the charter declares them, and as a machine allows them.</summary>
public sealed class StepTests
{
    private const string Head = """
        charter: 1
        stores: { cellar: { folder: /srv/cellar } }
        policies: { few: { keep: newest 2 } }
        steps:
          stop: { command: [systemctl, stop, register], limit: 3 minutes }
          down: { command: [pg_isready], as: postgres }
          start: { command: [systemctl, start, register] }
        """;

    private static CharterReading Read(string job, string more = "") =>
        CharterYaml.Read(Head + more + $"\njobs:\n  register: {{ takes: /srv/register, into: cellar, policy: few, {job} }}\n");

    [Fact]
    public void A_job_has_its_steps_by_name_and_says_them_again_as_it_was_told()
    {
        var reading = Read(
            "before: stop, until: down, patience: 5 minutes, still-at: [/srv/ at //run/still], after-failure: [start], "
                + "always-after: [start], watches-service: down, starts-service: start, starts-at-most: 2 in 30 minutes"
        );
        Assert.Empty(reading.Mistakes);
        Assert.Equal(new StillFolder("/srv", "/run/still"), Assert.Single(reading.Charter!.Jobs["register"].StillAt));
        var charter = reading.Charter!;
        var steps = charter.StepsOf(charter.Jobs["register"]);
        Assert.Equal(["systemctl", "stop", "register"], Assert.Single(steps.Before).Command.ToArray());
        Assert.Equal(
            (180, "postgres", 300),
            (steps.Before[0].Limit.ToDuration().TotalSeconds, steps.Until!.As, steps.Patience.ToDuration().TotalSeconds)
        );
        Assert.Equal((0, 1, 1), (steps.AfterSuccess.Length, steps.AfterFailure.Length, steps.AlwaysAfter.Length));
        var register = charter.Jobs["register"];
        Assert.Equal(("down", "start", 2), (register.WatchesService, register.StartsService, register.StartsAtMost.Times));
        Assert.Equal(30, register.StartsAtMost.Within.ToDuration().TotalMinutes);
        var written = CharterWriter.Write(charter);
        Assert.Equal(written, CharterWriter.Write(CharterYaml.Read(written).Charter!));
        Assert.Contains("always-after: start", written);
        var alone = CharterYaml.Read(
            Head + "\n  dump: { command: [pg_dump], keeps-as: a.dump }\njobs:\n  r: { streams: dump, into: cellar, policy: few }\n"
        );
        Assert.Equal("dump", Assert.Single(alone.Charter!.Jobs["r"].Streams));
        Assert.Contains("keeps-as: a.dump", CharterWriter.Write(alone.Charter));
        Assert.True(CharterYaml.Read(Head).Charter!.Steps.ContainsKey("stop"));
        Assert.True(
            charter.StepsOf(charter.Jobs["register"] with { Before = [], Until = null, AfterFailure = [], AlwaysAfter = [] }).IsEmpty
        );
    }

    /// <summary>What the documentation shows is a charter.</summary>
    [Fact]
    public void The_example_of_a_moment_held_still_can_be_applied()
    {
        var example = Path.Combine(AppContext.BaseDirectory, "../../../../../docs/examples/held-still-lvm.yaml");
        var reading = CharterYaml.Read(File.ReadAllText(example));
        Assert.Empty(reading.Mistakes);
        Assert.Equal("/run/ironkeep-still", Assert.Single(reading.Charter!.Jobs["srv"].StillAt).At);
    }

    [Theory]
    [InlineData("before: stp", "", "did you mean 'stop'?")]
    [InlineData("patience: 5 minutes", "", "'patience' goes with 'until'")]
    [InlineData("until: down, patience: 25 hours", "", "longer than a day")]
    [InlineData("before: [stop, stop]", "", "named twice")]
    [InlineData("before: stop", "\n  no: { as: root }", "'command' is missing")]
    [InlineData("before: stop", "\n  no: { command: [''] }", "every item under 'command' is a single text")]
    [InlineData("before: stop", "\n  no: { command: [a], limit: 2 days }", "longer than a day")]
    [InlineData("before: stop", "\n  no: { command: [a], as: 'a;b' }", "no name of a user")]
    [InlineData("streams: stop", "", "does not say as what its output is kept")]
    [InlineData("before: stop", "\n  no: { command: [a], keeps-as: a/b }", "cannot be the name of a file")]
    [InlineData("watches-service: down", "", "add 'starts-service: STEP'")]
    [InlineData("starts-service: start", "", "goes with 'watches-service'")]
    [InlineData("starts-at-most: 3 in 1 hour", "", "goes with 'watches-service'")]
    [InlineData("watches-service: down, starts-service: start, starts-at-most: often", "", "write '3 in 1 hour'")]
    [InlineData("watches-service: down, starts-service: start, starts-at-most: 0 in 1 hour", "", "write '3 in 1 hour'")]
    [InlineData("watches-service: down, starts-service: start, starts-at-most: 3 in 8 days", "", "a minute to a week")]
    [InlineData("watches-service: down, starts-service: start, watched: yes", "", "goes with jobs that Iron Keep carries out")]
    [InlineData("before: stop, still-at: /srv", "", "does not say where")]
    [InlineData("before: stop, still-at: srv at /run/still", "", "not an absolute path")]
    [InlineData("before: stop, still-at: /srv at /run/../etc", "", "contains '..'")]
    [InlineData("before: stop, still-at: /srv at /srv/", "", "the folder itself")]
    [InlineData("before: stop, still-at: /var at /run/still", "", "holds nothing that the job takes")]
    [InlineData("before: stop, still-at: /srv/register/deep at /run/still", "", "holds nothing that the job takes")]
    [InlineData("before: stop, still-at: /srv/reg at /run/still", "", "holds nothing that the job takes")]
    [InlineData("before: stop, still-at: [/srv at /run/a, /srv/register at /run/b]", "", "lie in each other")]
    [InlineData("still-at: /srv at /run/still, watched: yes", "", "goes with jobs that Iron Keep carries out")]
    [InlineData("before: stop, watched: yes", "", "goes with jobs that Iron Keep carries out")]
    public void A_mistake_names_the_thing_and_the_way_out(string job, string more, string says) =>
        Assert.Contains(Read(job, more).Mistakes, m => m.Message.Contains(says, StringComparison.Ordinal));

    private static AllowedCommands Allowed(string yaml) =>
        AllowedCommands.Read(CharterYaml.ReadNodes(yaml).Root!) is ({ } allowed, _) ? allowed : throw new InvalidOperationException();

    [Fact]
    public void A_machine_allows_what_it_lists_word_by_word_and_user_by_user()
    {
        var allowed = Allowed(
            "allows:\n  stop: { command: [systemctl, stop, register] }\n  dump: { command: [pg_dump, '*'], as: postgres }\n"
        );
        Assert.True(allowed.Allows(["systemctl", "stop", "register"], null));
        Assert.True(allowed.Allows(["pg_dump", "heron"], "postgres"));
        foreach (
            var (command, user) in new (string[], string?)[]
            {
                (["systemctl", "stop", "ssh"], null),
                (["systemctl", "stop"], null),
                (["systemctl", "stop", "register", "ssh"], null),
                (["systemctl", "stop", "register"], "root"),
                (["pg_dump", "heron"], null),
                (["pg_dump"], "postgres"),
                (["pg_dump", "heron", "--file=/etc/passwd"], "postgres"),
                ([], null),
            }
        )
            Assert.False(allowed.Allows(command, user), string.Join(' ', command));
        Assert.False(AllowedCommands.None.Allows([], null));
    }

    [Theory]
    [InlineData("allow: {}", "did you mean 'allows'?")]
    [InlineData("allows: [a]", "takes names")]
    [InlineData("allows: { a: { run: [x] } }", "unknown key 'run'")]
    [InlineData("[]", "must be keys and values")]
    public void A_list_with_a_mistake_allows_nothing(string yaml, string says)
    {
        var (allowed, mistakes) = AllowedCommands.Read(CharterYaml.ReadNodes(yaml).Root!);
        Assert.Null(allowed);
        Assert.Contains(mistakes, m => m.Message.Contains(says, StringComparison.Ordinal));
    }
}
