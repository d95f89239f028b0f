using NodaTime;

namespace IronKeep.Demo;

/// <summary>
/// What goes wrong at Saltmere in a month, each as it happens to real backups: a mount that is away, a machine that is off over a
/// weekend, a file that nobody may read, a run that drags on, a folder that somebody renames, recordings that half vanish, a bit
/// that turns over, a machine that falls silent. Nights are counted from <paramref name="first"/>.
/// </summary>
internal sealed class Troubles(string data, string stores, LocalDate first)
{
    private const int StoreAway = 4,
        Unreadable = 15,
        Renamed = 21,
        Shrunk = 25;
    private readonly LocalDate saturday = first.PlusDays(6).Next(IsoDayOfWeek.Saturday);

    // On a Tuesday, for the recordings are not taken at weekends.
    private readonly int crawls = NodaTime.Period.Between(first, first.PlusDays(16).Next(IsoDayOfWeek.Tuesday), PeriodUnits.Days).Days;

    private string WebSite => Path.Combine(data, "web-site");
    private string WebSiteRenamed => WebSite + "-new";
    private string LeftRunning => Path.Combine(data, "call-recordings", "left running.wav");
    private string Draft => Path.Combine(data, "ringing-register", "draft of the year.csv");

    /// <summary>Whether the machine is off in the night that begins on a date: over one weekend.</summary>
    public bool IsOff(LocalDate night) => night == saturday || night == saturday.PlusDays(1);

    /// <summary>How long after their due instants watched jobs say how they ended.</summary>
    public static readonly Duration SaysAfter = Duration.FromMinutes(20);

    /// <summary>Whether a machine that carries out its own jobs says nothing that night: avocet, in the last two.</summary>
    public static bool IsSilent(string machine, int night) => machine == "avocet" && night >= Nights.Count - 2;

    /// <summary>With what a watched job ends: knot's disk was full in one night.</summary>
    public static int ExitCodeOf(string machine, int night) => machine == "knot" && night == 12 ? 28 : 0;

    /// <summary>
    /// What avocet's script wrote that night, which it sends along: honest nights, one with a late gauge, one on which heron's disk was
    /// full, one that sent nothing; null for others.
    /// </summary>
    public static string? LogOf(string machine, int night) =>
        machine != "avocet"
            ? null
            : night switch
            {
                11 => "reading 3 gauges\nwarning: gauge 3 answered late\n1380 readings, 3.4 MB sent in 4m51s\nall done\n",
                17 => "reading 3 gauges\nerror: heron:/srv/tide: No space left on device\n",
                22 => "reading 0 gauges\n0 readings, 0 B sent in 1 s\nall done\n",
                _ =>
                    $"reading 3 gauges\n{1440 + night * 7 % 23} readings, 3.{night * 3 % 10} MB sent in {2 + night % 3}m{10 + night}s\nall "
                        + $"done\n",
            };

    /// <summary>Whether the machine crawls that night.</summary>
    public bool Crawls(int night) => night == crawls;

    public void Begin(int night)
    {
        // A recorder that was left running: much to read, on a night when the machine has other things to do.
        if (Crawls(night))
            File.WriteAllBytes(LeftRunning, Noise(48_000_000));
        switch (night)
        {
            case StoreAway:
                Directory.Move(Path.Combine(stores, "lighthouse"), Path.Combine(stores, "lighthouse-away"));
                break;
            case Unreadable:
                File.WriteAllText(Draft, "not for others yet\n");
                File.SetUnixFileMode(Draft, UnixFileMode.None);
                break;
            case Renamed or Nights.Count - 1:
                Directory.Move(WebSite, WebSiteRenamed);
                break;
            case Shrunk:
                // Somebody makes room by hand, and takes more than he meant to: so much that no weekend or good week makes up for it.
                var recordings = new DirectoryInfo(Path.Combine(data, "call-recordings"))
                    .GetFiles("*.wav", SearchOption.AllDirectories)
                    .OrderBy(f => f.LastWriteTimeUtc)
                    .ToList();
                foreach (var old in recordings.Take(recordings.Count * 4 / 5))
                    old.Delete();
                break;
        }
    }

    public void End(int night)
    {
        if (night == StoreAway)
            Directory.Move(Path.Combine(stores, "lighthouse-away"), Path.Combine(stores, "lighthouse"));
        if (night == Unreadable + 1)
            File.Delete(Draft);
        if (Crawls(night))
            File.Delete(LeftRunning);
        if (night == Renamed)
            Directory.Move(WebSiteRenamed, WebSite);
    }

    /// <summary>What a failing disk does: one bit in the middle of the newest pack that holds pictures.</summary>
    public static void FlipOneByte(string store)
    {
        var pack = new DirectoryInfo(Path.Combine(store, "packs"))
            .EnumerateFiles("*.pack", SearchOption.AllDirectories)
            .Where(f => f.Length > 200_000)
            .OrderByDescending(f => f.LastWriteTimeUtc)
            .First();
        using var file = pack.Open(FileMode.Open);
        file.Position = pack.Length / 2;
        var value = file.ReadByte();
        file.Position = pack.Length / 2;
        file.WriteByte((byte)(value ^ 0x10));
    }

    private static byte[] Noise(int size)
    {
        var bytes = new byte[size];
        new Random(size).NextBytes(bytes);
        return bytes;
    }
}
