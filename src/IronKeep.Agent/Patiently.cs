using System.Diagnostics;

namespace IronKeep.Agent;

/// <summary>
/// Asks over a line that breaks: again with growing pauses, until the service answers or was away for too long (half an hour where nothing
/// else is said). For what may be said twice.
/// </summary>
internal static class Patiently
{
    private static readonly TimeSpan FirstPause = TimeSpan.FromMilliseconds(250),
        LongestPause = TimeSpan.FromSeconds(20),
        GivesUpAfter = TimeSpan.FromMinutes(30);

    public static T Ask<T>(Func<Task<T>> ask, CancellationToken cancel, TimeSpan? most = null)
    {
        var since = Stopwatch.StartNew();
        for (var pause = FirstPause; ; pause = pause < LongestPause ? 2 * pause : LongestPause)
        {
            try
            {
                return ask().GetAwaiter().GetResult();
            }
            catch (LineException e) when (e.Fault is LineFault.Away && since.Elapsed < (most ?? GivesUpAfter))
            {
                cancel.WaitHandle.WaitOne(pause * (0.5 + Random.Shared.NextDouble() / 2));
                cancel.ThrowIfCancellationRequested();
            }
        }
    }
}
