using System.Collections.Concurrent;
using System.Security.Cryptography;
using IronKeep.Contracts;

namespace IronKeep.Service.Machines;

/// <summary>
/// What the agents of other machines are to do, and what became of it. An order is known by a token that is good for its machine alone
/// and ends with it: whoever comes with it later is told that it is over. Orders live in memory, as the runs do that gave them.
/// </summary>
public sealed class AgentOrders(TimeProvider clock)
{
    /// <summary>How long an order that has ended is remembered, for an agent whose last answer was lost (real time).</summary>
    private static readonly TimeSpan Remembers = TimeSpan.FromMinutes(10);

    /// <summary>How many are given out at once: an answer has its limit, and the rest follow when these are begun.</summary>
    private const int MostAtOnce = 8;

    /// <summary>How long an agent waits for orders before it asks again, so that it is known to be there.</summary>
    private static readonly TimeSpan WaitsAtLeast = TimeSpan.FromSeconds(20),
        WaitsAtMost = TimeSpan.FromSeconds(55);

    /// <summary>So many agents a second may ask anew; where there are more of them, each waits longer.</summary>
    private const int AskASecond = 60;
    private int asking;
    private readonly ConcurrentDictionary<string, AgentOrder> all = new();
    private readonly ConcurrentDictionary<string, TaskCompletionSource> bells = new();

    /// <summary>Has a machine make a copy, which arrives (<see cref="IArrivals"/>) or is made there; its agent comes for it.</summary>
    public AgentOrder Give(string machine, Func<string, CopyOrder> make, IOrderTalk copy)
    {
        var token = NewToken();
        return Give(new AgentOrder(machine, token, copy, clock) { Copy = make(token) });
    }

    /// <summary>Has a machine give something back; its agent comes for it.</summary>
    public AgentOrder Give(string machine, Func<string, RestoreOnMachine> make, IDepartures departures)
    {
        var token = NewToken();
        return Give(new AgentOrder(machine, token, departures, clock) { Restore = make(token) });
    }

    /// <summary>Has a machine run steps around the copies of a run; its agent comes for it.</summary>
    public AgentOrder Give(string machine, Func<string, StepsOrder> make, IStepsTalk talk)
    {
        var token = NewToken();
        return Give(new AgentOrder(machine, token, talk, clock) { Steps = make(token) });
    }

    /// <summary>Has a machine answer for a store on its own disk; its agent comes for it.</summary>
    public AgentOrder Give(string machine, Func<string, PlaceOrder> make, IPlaceTalk talk)
    {
        var token = NewToken();
        return Give(new AgentOrder(machine, token, talk, clock) { Place = make(token) });
    }

    private AgentOrder Give(AgentOrder order)
    {
        foreach (var (token, old) in all)
            if (old.EndedFor is { } ended && ended > Remembers)
                all.TryRemove(token, out _);
        all[order.Token] = order;
        Bell(order.Machine).TrySetResult();
        return order;
    }

    private static string NewToken() => RandomNumberGenerator.GetHexString(64, lowercase: true);

    /// <summary>The order of a token, for the machine that it was given to; null for any other.</summary>
    public AgentOrder? Of(string token, string machine) => all.TryGetValue(token, out var order) && order.Machine == machine ? order : null;

    /// <summary>
    /// The orders of a machine that nobody came for yet; waits for one a while (real time), unless it <paramref name="isNews"/> that the
    /// answer is to carry. An order whose answer may have been lost is given out again until its agent begins it.
    /// </summary>
    public async Task<IReadOnlyList<AgentOrder>> TakeAsync(string machine, string? instance, bool isNews, CancellationToken cancel)
    {
        var others = Interlocked.Increment(ref asking);
        try
        {
            return await TakeAsync(machine, instance, isNews ? TimeSpan.Zero : WaitAmong(others), cancel);
        }
        finally
        {
            Interlocked.Decrement(ref asking);
        }
    }

    /// <summary>How long one of so many agents waits, well below the time after which it would count as away.</summary>
    internal static TimeSpan WaitAmong(int agents) =>
        TimeSpan.FromSeconds(Math.Clamp((double)agents / AskASecond, WaitsAtLeast.TotalSeconds, WaitsAtMost.TotalSeconds));

    private async Task<IReadOnlyList<AgentOrder>> TakeAsync(string machine, string? instance, TimeSpan most, CancellationToken cancel)
    {
        // An agent that was started anew has what it began before in hand no more.
        foreach (var order in Of(machine).Where(o => !o.IsOver))
            order.Seen(instance);
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(most);
        while (true)
        {
            var bell = bells.AddOrUpdate(machine, _ => NewBell(), (_, old) => old.Task.IsCompleted ? NewBell() : old);
            var waiting = Of(machine).Where(o => o.IsWaiting).Take(MostAtOnce).ToList();
            if (waiting.Count > 0)
                return waiting;
            // Nearly every wait ends without an order, so that it does must cost nothing.
            await bell.Task.WaitAsync(limit.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            cancel.ThrowIfCancellationRequested();
            if (!bell.Task.IsCompleted)
                return [];
        }
    }

    private IEnumerable<AgentOrder> Of(string machine) => all.Select(o => o.Value).Where(o => o.Machine == machine);

    private TaskCompletionSource Bell(string machine) => bells.GetOrAdd(machine, _ => NewBell());

    private static TaskCompletionSource NewBell() => new(TaskCreationOptions.RunContinuationsAsynchronously);
}

/// <summary>What an agent says of an order, whatever it is to do. Calls may come at once; each answers for itself.</summary>
public interface IOrderTalk
{
    void Report(CopyReportRequest report);
    void Fail(CopyFailRequest request);
}

/// <summary>What arrives for a copy.</summary>
public interface IArrivals : IOrderTalk
{
    CopyBeginAnswer Begin(CopyBeginRequest request);
    byte[] Take(ReadOnlySpan<byte> batch);
    byte[] Has(ReadOnlySpan<byte> told);

    /// <summary>Makes the copy; said again it answers as it did.</summary>
    CopyCommitAnswer Commit(CopyCommitRequest request);
}

/// <summary>What is said of a copy that a machine makes in a store of its own.</summary>
public interface IMadeThere : IOrderTalk
{
    /// <summary>The copy is there. Said again it changes nothing.</summary>
    void Made(CopyMadeRequest request);
}

/// <summary>Calls to a store on a machine's own disk. Each of an agent's workers has one in hand at most.</summary>
public interface IPlaceTalk : IOrderTalk
{
    /// <summary>
    /// Takes a worker's answer to the call of this number (0: it has none) and gives it the next call, or after some seconds none. What was
    /// given to it before and is not answered by this was lost on the way, and is given again. Throws <see cref="OrderOverException"/> when
    /// <paramref name="by"/> is not the order any more by which calls are answered: its answers would not be taken.
    /// </summary>
    Task<(long Number, byte[] Call)?> NextAsync(
        AgentOrder by,
        int worker,
        long number,
        ReadOnlyMemory<byte> answer,
        CancellationToken cancel
    );
}

/// <summary>What leaves for a restore.</summary>
public interface IDepartures : IOrderTalk
{
    byte[] Give(ReadOnlySpan<byte> asked);

    /// <summary>Ends it; said again it changes nothing.</summary>
    void End(RestoreEndRequest request);
}

/// <summary>What is said of steps.</summary>
public interface IStepsTalk : IOrderTalk
{
    /// <summary>How the copies went; null: they are being made.</summary>
    bool? Success { get; }

    /// <summary>The steps before took hold, or did not. Said again it changes nothing.</summary>
    void Ready(StepsReadyRequest request);

    /// <summary>The steps after were run. Said again it changes nothing.</summary>
    void End(StepsEndRequest request);
}

/// <summary>One order, from when it is given to its end.</summary>
public sealed class AgentOrder(string machine, string token, IOrderTalk talk, TimeProvider clock)
{
    /// <summary>Bodies of one order that may lie in memory at once; an agent sends four.</summary>
    private const int BodiesAtOnce = 8;
    private long heardAt = clock.GetTimestamp();
    private long endedAt = -1;
    private volatile bool begun,
        stopped;

    public string Machine => machine;
    public string Token => token;

    /// <summary>What is to be done: a copy to make, or to give back, or steps to run, or a store to answer for.</summary>
    public CopyOrder? Copy { get; init; }
    public StepsOrder? Steps { get; init; }
    public RestoreOnMachine? Restore { get; init; }
    public PlaceOrder? Place { get; init; }

    /// <summary>Held by whoever reads a body; others of the order wait, so that one machine cannot fill the memory.</summary>
    internal SemaphoreSlim Reading { get; } = new(BodiesAtOnce);
    public IOrderTalk Talk => talk;

    /// <summary>Whether its agent has not begun it yet.</summary>
    public bool IsWaiting => !begun && endedAt < 0;

    /// <summary>Whether the agent is to give it up.</summary>
    public bool IsStopped => stopped;
    public bool IsOver => Interlocked.Read(ref endedAt) >= 0;

    /// <summary>How long nothing was heard of it, by the steady clock.</summary>
    public TimeSpan Silence => clock.GetElapsedTime(Interlocked.Read(ref heardAt));
    internal TimeSpan? EndedFor => Interlocked.Read(ref endedAt) is >= 0 and var at ? clock.GetElapsedTime(at) : null;

    public void Heard() => Interlocked.Exchange(ref heardAt, clock.GetTimestamp());

    /// <summary>Its agent has it in hand; the instance is that start of the agent.</summary>
    public void Begin(string? instance) => (by, begun) = (instance, true);

    /// <summary>Whether the agent was started anew since it began this.</summary>
    public bool IsLost => lost;

    internal void Seen(string? instance) => lost |= begun && by != instance;

    private volatile string? by;
    private volatile bool lost;

    /// <summary>Asks the agent to give it up; it is told with its next report.</summary>
    public void Stop() => stopped = true;

    /// <summary>From here on its token is good for nothing but to hear how it ended.</summary>
    public void End() => Interlocked.CompareExchange(ref endedAt, clock.GetTimestamp(), -1);
}
