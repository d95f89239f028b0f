using IronKeep.Core.Machines;

namespace IronKeep.Runs.Surroundings;

/// <summary>
/// What is known of how this machine stands: looked at now and then on a thread of its own, so that nobody waits for a look that hangs.
/// </summary>
public sealed class MachineStanding(Func<MachineState> look, TimeProvider clock)
{
    /// <summary>How often is looked while somebody asks, and how old what is known may be (real time).</summary>
    private static readonly TimeSpan LooksEvery = TimeSpan.FromSeconds(30),
        HoldsFor = TimeSpan.FromMinutes(3);
    private readonly Lock door = new();
    private Task? looking;
    private MachineState known = new();
    private long lookedAt;
    private bool hasLooked;

    public MachineStanding()
        : this(new MachineLook().Look, TimeProvider.System) { }

    /// <summary>What is known at present; a machine that hangs in a look is soon one that can tell nothing.</summary>
    public MachineState Now
    {
        get
        {
            lock (door)
            {
                var age = hasLooked ? clock.GetElapsedTime(lookedAt) : TimeSpan.MaxValue;
                if (looking is null && age > LooksEvery)
                    looking = Task.Run(LookNow);
                return age > HoldsFor ? new MachineState() : known;
            }
        }
    }

    /// <summary>Waits for the look that is under way, at most so long; for who has not asked before.</summary>
    public async Task<MachineState> FirstAsync(TimeSpan most)
    {
        var now = Now;
        Task? under;
        lock (door)
            under = hasLooked ? null : looking;
        if (under is null)
            return now;
        await Task.WhenAny(under, Task.Delay(most));
        return Now;
    }

    private void LookNow()
    {
        try
        {
            var seen = look();
            lock (door)
                (known, lookedAt, hasLooked) = (seen, clock.GetTimestamp(), true);
        }
        finally
        {
            lock (door)
                looking = null;
        }
    }
}
