using System.Runtime.Intrinsics.X86;
using IronKeep.Stores.Posix;

namespace IronKeep.Agent;

/// <summary>
/// Native code is made for one kind of processor. The agent is made for any, and once more for those with wide registers, on which hashing
/// takes less than half the time; where the machine has them, that one goes on in the place of this.
/// </summary>
internal static class NewerProcessor
{
    private const string Kind = "x86-64-v3";

    /// <summary>What a processor of that kind can do, in the words of the kernel.</summary>
    private static readonly string[] Wanted = ["avx", "avx2", "bmi1", "bmi2", "f16c", "fma", "abm", "movbe", "xsave"];

    /// <summary>
    /// Goes on as the one made for newer processors; returns where this is it, or there is none, or the processor is older.
    /// </summary>
    public static void GoOver()
    {
        // Known when the code is made.
        if (Avx2.IsSupported || Environment.ProcessPath is not { } self || Path.GetDirectoryName(self) is not { } folder)
            return;
        var name = Path.GetFileName(self);
        string[] places =
        [
            Path.Combine(folder, Kind, name),
            Path.Combine(Path.GetDirectoryName(folder) ?? "/", "lib", "ironkeep-agent", Kind, name),
        ];
        if (Array.Find(places, File.Exists) is { } other && Has())
            Processes.GoOnAs(other, [self, .. Environment.GetCommandLineArgs().Skip(1)]);
    }

    private static bool Has()
    {
        try
        {
            var flags = File.ReadLines("/proc/cpuinfo").FirstOrDefault(l => l.StartsWith("flags", StringComparison.Ordinal));
            return flags is not null && Wanted.All(flags.Split(' ').Contains);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return false;
        }
    }
}
