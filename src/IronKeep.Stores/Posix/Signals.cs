using System.Runtime.InteropServices;

namespace IronKeep.Stores.Posix;

/// <summary>Sends signals to processes (kill(2)).</summary>
public static partial class Signals
{
    /// <summary>False when there is no such process, or it may not be sent any.</summary>
    public static bool Send(int process, int signal) => Kill(process, signal) == 0;

    [LibraryImport("libc", EntryPoint = "kill", SetLastError = true)]
    private static partial int Kill(int process, int signal);
}
