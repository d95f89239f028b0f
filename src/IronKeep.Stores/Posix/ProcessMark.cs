using System.Globalization;

namespace IronKeep.Stores.Posix;

/// <summary>
/// What a process is known by on its machine: the boot, the namespace of process numbers, the number, and when it started. Whoever
/// shares boot and namespace can tell whether it is dead; nobody else can, and must wait.
/// </summary>
public static class ProcessMark
{
    private static readonly string Where = ReadWhere();

    /// <summary>This process's mark: digits, letters and hyphens.</summary>
    public static string Own { get; } = $"{Where}-{Environment.ProcessId}-{StartOf(Environment.ProcessId)}";

    /// <summary>Whether the mark is that of a process of this machine that is certainly gone. False when it cannot be known.</summary>
    public static bool IsDead(string mark)
    {
        if (Where.Length == 0 || !mark.StartsWith(Where + "-", StringComparison.Ordinal))
            return false;
        var rest = mark[(Where.Length + 1)..].Split('-');
        return rest.Length >= 2 && int.TryParse(rest[0], CultureInfo.InvariantCulture, out var id) && StartOf(id) != rest[1];
    }

    /// <summary>When a process started, in ticks since the boot (field 22 of /proc/PID/stat, proc(5)); "gone" when there is none.</summary>
    private static string StartOf(int id)
    {
        try
        {
            var stat = File.ReadAllText($"/proc/{id}/stat");
            // The second field is a name in parentheses that may hold anything.
            var fields = stat[(stat.LastIndexOf(')') + 2)..].Split(' ');
            // A process that waits to be buried does nothing any more.
            return fields[0] == "Z" ? "gone" : fields[19];
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return "gone";
        }
    }

    private static string ReadWhere()
    {
        try
        {
            var boot = File.ReadAllText("/proc/sys/kernel/random/boot_id").Trim().Replace("-", "", StringComparison.Ordinal);
            var names = new FileInfo("/proc/self/ns/pid").LinkTarget ?? "";
            return boot[..12] + string.Concat(names.Where(char.IsAsciiDigit));
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return "";
        }
    }
}
