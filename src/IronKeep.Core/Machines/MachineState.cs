namespace IronKeep.Core.Machines;

/// <summary>
/// How a machine stands, as it says of itself; null is what it cannot tell. <paramref name="IdleSeconds"/> is since somebody last used
/// it, <paramref name="AwakeSeconds"/> since it was started or woke. <paramref name="Networks"/> are names of connections and of the
/// devices that lead out; <paramref name="Rooms"/> its file systems.
/// </summary>
public sealed record MachineState(
    bool? OnMains = null,
    double? IdleSeconds = null,
    double? AwakeSeconds = null,
    IReadOnlyList<string>? Networks = null,
    bool? Metered = null,
    IReadOnlyList<RoomAt>? Rooms = null
)
{
    /// <summary>The most networks and file systems that are told.</summary>
    public const int MostNetworks = 32,
        MostRooms = 256;

    /// <summary>How many bytes are free where a path lies; null: it cannot be told.</summary>
    public long? RoomFor(string path) =>
        Rooms?.Where(r => Contains(r.Mount, path)).OrderByDescending(r => r.Mount.Length).Select(r => (long?)r.Free).FirstOrDefault();

    private static bool Contains(string mount, string path) =>
        mount == "/" || (path.StartsWith(mount, StringComparison.Ordinal) && (path.Length == mount.Length || path[mount.Length] == '/'));
}

/// <summary>A file system by the path at which it is mounted, and its free bytes.</summary>
public sealed record RoomAt(string Mount, long Free);
