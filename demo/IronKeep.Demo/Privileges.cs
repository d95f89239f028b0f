using System.Runtime.InteropServices;

namespace IronKeep.Demo;

/// <summary>
/// Gives up root's right to read whatever it likes, so that a file which nobody may read is one for the demo too. Threads that are
/// made later inherit it. Without root there is nothing to give up.
/// </summary>
internal static class Privileges
{
    private const uint Version3 = 0x20080522;
    private const uint OverridePermissions = 1u << 1,
        ReadAnything = 1u << 2;

    public static void GiveUpReadingAnything()
    {
        var head = new uint[] { Version3, 0 };
        var sets = new uint[6];
        if (capget(head, sets) != 0)
            return;
        // Effective and permitted, the low words.
        sets[0] &= ~(OverridePermissions | ReadAnything);
        sets[1] &= ~(OverridePermissions | ReadAnything);
        _ = capset(head, sets);
    }

    [DllImport("libc", SetLastError = true)]
    private static extern int capget([In, Out] uint[] head, [In, Out] uint[] sets);

    [DllImport("libc", SetLastError = true)]
    private static extern int capset([In, Out] uint[] head, [In, Out] uint[] sets);
}
