using System.Runtime.InteropServices;

namespace IronKeep.Stores.Posix;

/// <summary>
/// The machine's clock. Its timestamps go on while the machine sleeps (the kernel's boot clock), so that a night in which a laptop
/// was shut does not look like a clock that jumped.
/// </summary>
public sealed partial class BootClock : TimeProvider
{
    private const int BootTime = 7;

    public override long TimestampFrequency => 1_000_000_000;

    public override long GetTimestamp() => clock_gettime(BootTime, out var now) == 0 ? now.Seconds * 1_000_000_000 + now.Nanoseconds : throw new InvalidOperationException("the boot clock cannot be read");

    [StructLayout(LayoutKind.Sequential)]
    private struct TimeSpec
    {
        public long Seconds;
        public long Nanoseconds;
    }

    [LibraryImport("libc", SetLastError = true)]
    private static partial int clock_gettime(int clock, out TimeSpec now);
}
