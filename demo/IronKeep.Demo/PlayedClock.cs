namespace IronKeep.Demo;

/// <summary>
/// A clock that is set forward from instant to instant while nights are played, flowing a little faster than real between
/// them so that runs take time, and that tells the real time once the play is over. It never goes back.
/// </summary>
internal sealed class PlayedClock(DateTimeOffset start) : TimeProvider
{
    private const double Pace = 12;
    private readonly Lock gate = new();
    private DateTimeOffset shown = start;
    private long since = System.GetTimestamp();
    private bool over;

    public override DateTimeOffset GetUtcNow()
    {
        lock (gate) return over ? System.GetUtcNow() : shown + System.GetElapsedTime(since) * Pace;
    }

    /// <summary>Sets the clock forward; an earlier instant leaves it where it is.</summary>
    public void MoveTo(DateTimeOffset instant)
    {
        lock (gate)
        {
            var now = shown + System.GetElapsedTime(since) * Pace;
            shown = instant > now ? instant : now;
            since = System.GetTimestamp();
        }
    }

    /// <summary>From now on the real time.</summary>
    public void EndPlay()
    {
        lock (gate) over = true;
    }
}
