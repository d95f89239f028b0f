using System.Runtime.InteropServices;

namespace IronKeep.Stores.Posix;

/// <summary>
/// What a clock knows beyond the time: in which boot its timestamps count, and whether somebody keeps it right from outside.
/// </summary>
public interface ISteadyClock
{
    /// <summary>Names the boot of the machine; timestamps of one boot can be compared.</summary>
    string BootId { get; }

    /// <summary>Whether the kernel says that a time server keeps the clock.</summary>
    bool IsKeptRight { get; }
}

/// <summary>
/// The machine's clock. Its timestamps go on while the machine sleeps (the kernel's boot clock), so that a night in which a laptop
/// was shut does not look like a clock that jumped.
/// </summary>
public sealed partial class BootClock : TimeProvider, ISteadyClock
{
    private const int BootTime = 7;
    private const int NotSynchronised = 5;

    public override long TimestampFrequency => 1_000_000_000;

    public string BootId { get; } = ReadBootId();

    public unsafe bool IsKeptRight
    {
        get
        {
            // struct timex is 208 bytes on 64 bit; modes of zero only asks, adjtimex(2).
            var timex = stackalloc byte[256];
            new Span<byte>(timex, 256).Clear();
            return adjtimex(timex) is >= 0 and not NotSynchronised;
        }
    }

    public override long GetTimestamp() =>
        clock_gettime(BootTime, out var now) == 0
            ? now.Seconds * 1_000_000_000 + now.Nanoseconds
            : throw new InvalidOperationException("the boot clock cannot be read");

    private static string ReadBootId()
    {
        try
        {
            return File.ReadAllText("/proc/sys/kernel/random/boot_id").Trim();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return "-";
        }
    }

    [StructLayout(LayoutKind.Sequential)]
    private struct TimeSpec
    {
        public long Seconds;
        public long Nanoseconds;
    }

    [LibraryImport("libc", SetLastError = true)]
    private static partial int clock_gettime(int clock, out TimeSpec now);

    [LibraryImport("libc", SetLastError = true)]
    private static unsafe partial int adjtimex(byte* timex);
}
