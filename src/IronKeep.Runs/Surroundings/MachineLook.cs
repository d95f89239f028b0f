using System.Diagnostics;
using System.Globalization;
using IronKeep.Core.Machines;

namespace IronKeep.Runs.Surroundings;

/// <summary>
/// Looks how this machine stands. What cannot be told is null, and nothing is thrown. A look can take seconds, and hangs where a program
/// of the system does: it belongs on a thread of its own.
/// </summary>
/// <param name="root">Where /proc, /sys and /dev are read; "" but in tests.</param>
/// <param name="ask">Asks a program of the system; null: there is none, or it said nothing.</param>
public sealed class MachineLook(string root, Func<string, string[], string?> ask)
{
    /// <summary>File systems that hold nothing, or whose server can keep us waiting.</summary>
    private static readonly HashSet<string> Disks =
    [
        "ext2",
        "ext3",
        "ext4",
        "xfs",
        "btrfs",
        "zfs",
        "f2fs",
        "jfs",
        "reiserfs",
        "vfat",
        "exfat",
        "ntfs",
        "ntfs3",
        "tmpfs",
        "overlay",
        "bcachefs",
    ];
    private static readonly TimeSpan SleptAtLeast = TimeSpan.FromSeconds(30);
    private TimeSpan? slept;
    private DateTimeOffset? wokeAt;

    public MachineLook()
        : this("", SystemAsk.Ask) { }

    public MachineState Look()
    {
        var (networks, metered) = Networks();
        return new MachineState(OnMains(), IdleSeconds(), AwakeSeconds(), networks, metered, Rooms());
    }

    /// <summary>On mains unless a battery of the machine empties; a machine without batteries is.</summary>
    private bool? OnMains() =>
        Try<bool?>(() =>
        {
            var folder = root + "/sys/class/power_supply";
            if (!Directory.Exists(folder))
                return true;
            var all = Directory.GetFileSystemEntries(folder).Select(s => (Type: Line(s, "type"), Path: s)).ToList();
            // A mouse or a pen has a battery of its own, which says so.
            var batteries = all.Where(s => s.Type == "Battery" && Line(s.Path, "scope") != "Device").ToList();
            if (batteries.Count == 0)
                return true;
            var supplies = all.Where(s => s.Type is "Mains" or "USB" or "UPS")
                .Select(s => Line(s.Path, "online"))
                .OfType<string>()
                .ToList();
            if (supplies.Contains("1"))
                return true;
            return batteries.Exists(b => Line(b.Path, "status") == "Discharging") ? false
                : supplies.Count > 0 ? false
                : null;
        });

    private static string? Line(string folder, string file) =>
        File.Exists(Path.Combine(folder, file)) ? File.ReadAllText(Path.Combine(folder, file)).Trim() : null;

    /// <summary>
    /// The least of what terminals and the login manager tell; a machine that nobody is signed in to is idle since it woke.
    /// </summary>
    private double? IdleSeconds() =>
        Try<double?>(() =>
        {
            var now = DateTime.UtcNow;
            var idle = AwakeSeconds() ?? double.MaxValue;
            foreach (var terminal in Terminals())
                idle = Math.Min(idle, Math.Max(0, (now - File.GetLastAccessTimeUtc(terminal)).TotalSeconds));
            var said = ask("loginctl", ["show-session", "--property=IdleHint", "--property=IdleSinceHint"]);
            if (said is not null)
            {
                var words = said.Split('\n').Select(l => l.Split('=', 2)).Where(w => w.Length == 2).ToLookup(w => w[0], w => w[1].Trim());
                if (words["IdleHint"].FirstOrDefault() == "no")
                    return 0;
                if (
                    long.TryParse(words["IdleSinceHint"].FirstOrDefault(), NumberStyles.None, CultureInfo.InvariantCulture, out var since)
                    && since > 0
                )
                    idle = Math.Min(idle, Math.Max(0, (now - DateTime.UnixEpoch).TotalSeconds - since / 1e6));
            }
            return idle == double.MaxValue ? null : Math.Round(idle);
        });

    private IEnumerable<string> Terminals()
    {
        var pts = root + "/dev/pts";
        return (Directory.Exists(pts) ? Directory.GetFiles(pts).Where(f => int.TryParse(Path.GetFileName(f), out _)) : []).Concat(
            Directory.Exists(root + "/dev")
                ? Directory.GetFiles(root + "/dev", "tty*").Where(f => int.TryParse(Path.GetFileName(f)[3..], out var n) && n > 0)
                : []
        );
    }

    /// <summary>Since the start, or since it woke: the clock that goes on in sleep is then ahead of the one that does not.</summary>
    private double? AwakeSeconds() =>
        Try<double?>(() =>
        {
            var up = double.Parse(File.ReadAllText(root + "/proc/uptime").Split(' ')[0], CultureInfo.InvariantCulture);
            if (root.Length > 0)
                return up;
            var now = DateTimeOffset.UtcNow;
            // The stopwatch stands still while the machine sleeps.
            var sleeps = TimeSpan.FromSeconds(up) - Stopwatch.GetElapsedTime(0);
            if (slept is { } before && sleeps - before > SleptAtLeast)
                wokeAt = now;
            slept = sleeps;
            return wokeAt is { } woke && now >= woke ? Math.Min(up, (now - woke).TotalSeconds) : Math.Round(up);
        });

    private (IReadOnlyList<string>? Names, bool? Metered) Networks()
    {
        var names = Try(() => Devices());
        var said = ask("nmcli", ["--terse", "--get-values", "NAME,DEVICE", "connection", "show", "--active"]);
        var metered = new List<string>();
        foreach (var line in said?.Split('\n', StringSplitOptions.RemoveEmptyEntries) ?? [])
        {
            // Colons within a name come with a backslash.
            var cut = line.LastIndexOf(':');
            if (cut <= 0 || names is null || !names.Contains(line[(cut + 1)..]))
                continue;
            names.Add(line[..cut].Replace("\\:", ":", StringComparison.Ordinal));
            metered.Add(ask("nmcli", ["--terse", "--get-values", "GENERAL.METERED", "device", "show", line[(cut + 1)..]])?.Trim() ?? "");
        }
        return (
            names is null ? null : [.. names.Distinct().Take(MachineState.MostNetworks)],
            metered.Exists(m => m.StartsWith("yes", StringComparison.Ordinal)) ? true
            : metered.Count > 0 && metered.TrueForAll(m => m.StartsWith("no", StringComparison.Ordinal)) ? false
            : null
        );
    }

    /// <summary>The devices through which a way leads out.</summary>
    private List<string> Devices() =>
        [
            .. File.ReadLines(root + "/proc/net/route")
                .Skip(1)
                .Select(l => l.Split('\t'))
                .Where(w => w.Length > 2 && w[1] == "00000000")
                .Select(w => w[0].Trim())
                .Distinct(),
        ];

    private IReadOnlyList<RoomAt>? Rooms() =>
        Try(() =>
        {
            var rooms = new List<RoomAt>();
            foreach (var line in File.ReadLines(root + "/proc/self/mounts"))
            {
                var words = line.Split(' ');
                if (words.Length < 3 || !Disks.Contains(words[2]) || rooms.Count == MachineState.MostRooms)
                    continue;
                var mount = Unescaped(words[1]);
                if (Try<long?>(() => new DriveInfo(mount).AvailableFreeSpace) is { } free)
                    rooms.Add(new RoomAt(mount, free));
            }
            return (IReadOnlyList<RoomAt>?)rooms;
        });

    /// <summary>Spaces, tabs and the like in the name of a mount are written as \040.</summary>
    private static string Unescaped(string mount) =>
        mount
            .Replace("\\040", " ", StringComparison.Ordinal)
            .Replace("\\011", "\t", StringComparison.Ordinal)
            .Replace("\\012", "\n", StringComparison.Ordinal)
            .Replace("\\134", "\\", StringComparison.Ordinal);

    private static T? Try<T>(Func<T?> look)
    {
        try
        {
            return look();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or FormatException or ArgumentException)
        {
            return default;
        }
    }
}
