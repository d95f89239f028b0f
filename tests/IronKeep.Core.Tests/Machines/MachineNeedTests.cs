using IronKeep.Core.Machines;

namespace IronKeep.Core.Tests.Machines;

/// <summary>What a job can need of its machine, and what of it is lacking.</summary>
public sealed class MachineNeedTests
{
    private static readonly MachineState Decent = new(
        true,
        600,
        3600,
        ["marsh-lan", "eth0"],
        false,
        [new("/", 9_000_000_000), new("/srv", 5_000_000_000), new("/srv/small", 1), new("/srv2", 0)]
    );

    private static string? Lacked(string need, MachineState state)
    {
        var (read, problem) = MachineNeed.Read(need);
        Assert.Null(problem);
        Assert.Equal(need.Trim(), read!.Words);
        return read.LackedBy(state);
    }

    [Theory]
    [InlineData("mains power")]
    [InlineData("idle for 10 minutes")]
    [InlineData("unmetered line")]
    [InlineData("network marsh-lan")]
    [InlineData(" network eth0 ")]
    [InlineData("5 GB free at /srv")]
    [InlineData("9 GB free at /var/tmp")]
    [InlineData("5 GB free at /srv/other")]
    [InlineData("1 B free at /srv/small/deep")]
    public void What_a_machine_gives_is_not_lacking(string need) => Assert.Null(Lacked(need, Decent));

    [Fact]
    public void What_it_does_not_give_is_named_and_what_it_cannot_tell_is_not_given()
    {
        var other = new MachineState(false, 599, 1, ["hotel"], true, [new("/srv", 4_999_999_999)]);
        Assert.Equal("runs on battery", Lacked("mains power", other));
        Assert.Equal("was used within 10 minutes", Lacked("idle for 10 minutes", other));
        Assert.Equal("is on a metered line", Lacked("unmetered line", other));
        Assert.Equal("is not on network marsh-lan", Lacked("network marsh-lan", other));
        Assert.Equal("has less than 5 GB free at /srv", Lacked("5 GB free at /srv", other));
        Assert.Equal("has less than 2 B free at /srv/small", Lacked("2 B free at /srv/small", Decent));
        foreach (var need in (string[])["mains power", "idle for 1 minute", "unmetered line", "network x", "1 B free at /srv"])
            Assert.StartsWith("cannot tell ", Lacked(need, new MachineState()));
        // A file system of a like name is another.
        Assert.StartsWith("cannot tell ", Lacked("1 B free at /srv2", other));
    }

    [Theory]
    [InlineData("", 0, "mains power")]
    [InlineData("battery", 0, "nothing that a machine can tell")]
    [InlineData("idle for a while", 9, "not a span of time")]
    [InlineData("idle for 0 minutes", 9, "idle for 10 minutes")]
    [InlineData("network ", 0, "nothing that a machine can tell")]
    [InlineData("much free at /srv", 0, "much")]
    [InlineData("5 GB free at srv", 13, "must begin with '/'")]
    [InlineData("-5 GB free at /srv", 0, "-5 GB")]
    public void What_is_none_says_where_and_why(string need, int at, string says)
    {
        var (read, problem) = MachineNeed.Read(need);
        Assert.Null(read);
        Assert.Equal(at, problem!.Position);
        Assert.Contains(says, problem.Message);
    }
}
