namespace IronKeep.Demo;

/// <summary>
/// A clock that is set forward from instant to instant while nights are played, flowing faster than real between them so that runs
/// take time, and that tells the real time once the play is over. It never goes back, and its timestamps pass with it: to the
/// service the played nights have really passed.
/// </summary>
internal sealed class PlayedClock(DateTimeOffset start) : TimeProvider
{
    private const double UsualPace = 12;
    private readonly Lock gate = new();
    private readonly DateTimeOffset begin = start;
    private DateTimeOffset shown = start;
    private long since = System.GetTimestamp();
    private double pace = UsualPace;

    public override long TimestampFrequency => TimeSpan.TicksPerSecond;

    public override DateTimeOffset GetUtcNow()
    {
        lock (gate)
            return Now;
    }

    public override long GetTimestamp() => (GetUtcNow() - begin).Ticks + 1;

    /// <summary>Sets the clock forward; an earlier instant leaves it where it is.</summary>
    public void MoveTo(DateTimeOffset instant)
    {
        lock (gate)
        {
            var now = Now;
            shown = instant > now ? instant : now;
            since = System.GetTimestamp();
        }
    }

    /// <summary>From now on the real time.</summary>
    public void EndPlay()
    {
        MoveTo(System.GetUtcNow());
        lock (gate)
            pace = 1;
    }

    private DateTimeOffset Now => shown + System.GetElapsedTime(since) * pace;
}
