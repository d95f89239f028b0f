using IronKeep.Core.Machines;
using IronKeep.Runs.Surroundings;

namespace IronKeep.Runs.Tests;

/// <summary>How a machine looks at itself, by what the kernel and programs of the system say.</summary>
public sealed class MachineLookTests : IDisposable
{
    private readonly string root = Directory.CreateTempSubdirectory("look-").FullName;
    private readonly Dictionary<string, string> programs = [];

    public void Dispose() => Directory.Delete(root, true);

    private void Write(string path, string text)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(root + path)!);
        File.WriteAllText(root + path, text + "\n");
    }

    private MachineState Look() => new MachineLook(root, (program, words) => programs.GetValueOrDefault($"{program} {words[^1]}")).Look();

    [Theory]
    [InlineData("", true)]
    [InlineData("BAT0 Battery Discharging", false)]
    [InlineData("BAT0 Battery Charging", null)]
    [InlineData("BAT0 Battery Discharging,AC Mains 1", true)]
    [InlineData("BAT0 Battery Full,AC Mains 0", false)]
    [InlineData("BAT0 Battery Charging,TYPEC USB 1", true)]
    [InlineData("MOUSE Battery Discharging Device", true)]
    [InlineData("AC Mains 0", true)]
    public void Power_comes_from_the_mains_or_a_battery(string supplies, bool? expected)
    {
        Directory.CreateDirectory(root + "/sys/class/power_supply");
        foreach (var words in supplies.Split(',', StringSplitOptions.RemoveEmptyEntries).Select(s => s.Split(' ')))
        {
            var folder = $"/sys/class/power_supply/{words[0]}/";
            Write(folder + "type", words[1]);
            Write(folder + (words[1] == "Battery" ? "status" : "online"), words[2]);
            if (words.Length > 3)
                Write(folder + "scope", words[3]);
        }
        Assert.Equal(expected, Look().OnMains);
    }

    [Fact]
    public void Whoever_used_it_last_counts()
    {
        Write("/proc/uptime", "5000.25 9000.00");
        Assert.Equal((5000, 5000.25), ((int)Look().IdleSeconds!, Look().AwakeSeconds));
        Write("/dev/pts/3", "");
        Write("/dev/pts/ptmx", "");
        File.SetLastAccessTimeUtc(root + "/dev/pts/3", DateTime.UtcNow.AddSeconds(-900));
        Assert.InRange(Look().IdleSeconds!.Value, 900, 910);
        Write("/dev/tty1", "");
        File.SetLastAccessTimeUtc(root + "/dev/tty1", DateTime.UtcNow.AddSeconds(-300));
        Assert.InRange(Look().IdleSeconds!.Value, 300, 310);
        var since = DateTimeOffset.UtcNow.AddSeconds(-60).ToUnixTimeMilliseconds() * 1000;
        programs["loginctl --property=IdleSinceHint"] = $"IdleHint=yes\nIdleSinceHint={since}\n";
        Assert.InRange(Look().IdleSeconds!.Value, 60, 70);
        programs["loginctl --property=IdleSinceHint"] = "IdleHint=no\nIdleSinceHint=0\n";
        Assert.Equal(0, Look().IdleSeconds);
    }

    [Fact]
    public void The_networks_that_lead_out_are_named_and_a_metered_one_is_known()
    {
        const string head = "Iface\tDestination\tGateway\n";
        Write("/proc/net/route", head + "wlan0\t00000000\t0102A8C0\nwlan0\t0002A8C0\t00000000\nbr0\t000011AC\t00000000");
        Assert.Equal(["wlan0"], Look().Networks!);
        Assert.Null(Look().Metered);
        programs["nmcli --active"] = "Marsh\\: office:wlan0\nBridge:br0\n";
        programs["nmcli wlan0"] = "no (guessed)\n";
        programs["nmcli br0"] = "yes\n";
        Assert.Equal(["wlan0", "Marsh: office"], Look().Networks!);
        Assert.False(Look().Metered);
        programs["nmcli wlan0"] = "yes\n";
        Assert.True(Look().Metered);
        programs["nmcli wlan0"] = "unknown\n";
        Assert.Null(Look().Metered);
    }

    [Fact]
    public void File_systems_that_hold_files_are_measured_and_what_a_server_holds_is_not_asked()
    {
        Write(
            "/proc/self/mounts",
            "proc /proc proc rw 0 0\n/dev/sda1 / ext4 rw 0 0\nhost:/x /mnt/x nfs4 rw 0 0\n/dev/sdb /not/there\\040here xfs rw 0 0"
        );
        var room = Assert.Single(Look().Rooms!);
        Assert.Equal("/", room.Mount);
        Assert.InRange(room.Free, 1, long.MaxValue);
    }

    /// <summary>A kernel that shows nothing makes a machine that can tell nothing.</summary>
    [Fact]
    public void What_cannot_be_told_is_null()
    {
        var empty = Look();
        Assert.Equal((null, null, null, null, null), (empty.AwakeSeconds, empty.IdleSeconds, empty.Networks, empty.Metered, empty.Rooms));
        var here = new MachineLook().Look();
        Assert.InRange(here.AwakeSeconds!.Value, 1, double.MaxValue);
        Assert.NotNull(here.Rooms);
    }

    /// <summary>Nobody waits for a look that hangs, and what was known before it does not hold for ever.</summary>
    [Fact]
    public async Task A_look_that_hangs_is_soon_a_machine_that_can_tell_nothing()
    {
        using var gate = new SemaphoreSlim(1);
        var clock = new Ahead();
        var standing = new MachineStanding(
            () =>
            {
                gate.Wait();
                return new MachineState(OnMains: true);
            },
            clock
        );
        Assert.True((await standing.FirstAsync(TimeSpan.FromSeconds(20))).OnMains);
        clock.By = TimeSpan.FromMinutes(1);
        for (var i = 0; i < 50; i++)
            Assert.True(standing.Now.OnMains);
        clock.By = TimeSpan.FromMinutes(4);
        Assert.Null(standing.Now.OnMains);
        gate.Release();
        while (standing.Now.OnMains is null)
            await Task.Delay(10);
    }

    private sealed class Ahead : TimeProvider
    {
        public TimeSpan By { get; set; }

        public override long TimestampFrequency => TimeSpan.TicksPerSecond;

        public override long GetTimestamp() => By.Ticks;
    }
}
