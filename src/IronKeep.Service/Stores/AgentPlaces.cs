using System.Collections.Concurrent;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Service.Machines;
using IronKeep.Stores.Places;

namespace IronKeep.Service.Stores;

/// <summary>Folders of machines that only their agents reach. All who use one share the line to it.</summary>
public sealed class AgentPlaces(AgentOrders orders, MachineStandings standings, TimeProvider clock) : IPlaceKind
{
    private readonly ConcurrentDictionary<(string Machine, string Folder), PlaceLine> lines = new();

    public bool Holds(StoreDefinition store) => store.On is not null;

    public IPlace Open(StoreDefinition store) => Called(store);

    /// <summary>A store's folder as its agent answers for it.</summary>
    public CalledPlace Called(StoreDefinition store)
    {
        var line = lines.GetOrAdd((store.On!, store.Folder), at => new PlaceLine(
            at.Machine,
            store.Name,
            at.Folder,
            orders,
            standings,
            clock
        ));
        return new CalledPlace($"{store.Folder} on {store.On}", line.Ask);
    }
}

/// <summary>
/// Calls to a folder of a machine, which its agent answers. The agent comes for them when there are some, and goes when there were none for
/// a while. A machine that is away, or whose agent was started anew in the middle, is a <see cref="PlaceException"/>.
/// </summary>
internal sealed class PlaceLine(
    string machine,
    string store,
    string folder,
    AgentOrders orders,
    MachineStandings standings,
    TimeProvider clock
) : IPlaceTalk
{
    /// <summary>How long an agent may say nothing while a call waits, and after how long without calls it may go.</summary>
    private static readonly TimeSpan SilentAtMost = TimeSpan.FromMinutes(2),
        IdleAtMost = TimeSpan.FromMinutes(5);

    /// <summary>Real time: how long a worker waits for a call, and how often is looked whether its agent is there.</summary>
    private static readonly TimeSpan WaitsAtMost = TimeSpan.FromSeconds(20),
        LooksEvery = TimeSpan.FromMilliseconds(200);
    private readonly Lock door = new();
    private readonly Queue<Call> waiting = [];
    private readonly Dictionary<int, Call> offered = [];
    private TaskCompletionSource bell = NewBell();
    private AgentOrder? order;
    private long last,
        askedAt;

    private sealed record Call(long Number, byte[] Content)
    {
        public TaskCompletionSource<byte[]> Done { get; } = new(TaskCreationOptions.RunContinuationsAsynchronously);
    }

    /// <summary>Sends a call and waits for its answer.</summary>
    public byte[] Ask(byte[] content)
    {
        if (!standings.IsHere(machine))
            throw Away($"{machine} is not heard of");
        Call call;
        AgentOrder mine;
        lock (door)
        {
            if (order is null || order.IsOver || order.IsLost)
            {
                Fail(Away($"the agent of {machine} was started anew in the middle of it"));
                order?.End();
                order = orders.Give(machine, token => new PlaceOrder(token, store, folder), this);
            }
            mine = order;
            call = new Call(++last, content);
            askedAt = clock.GetTimestamp();
            waiting.Enqueue(call);
            bell.TrySetResult();
        }
        while (!call.Done.Task.IsCompleted)
        {
            if (((IAsyncResult)call.Done.Task).AsyncWaitHandle.WaitOne(LooksEvery))
                break;
            if (mine.IsLost)
                Lose(mine, $"the agent of {machine} was started anew in the middle of it");
            else if (!standings.IsHere(machine) || mine.Silence > SilentAtMost)
                Lose(mine, $"the agent of {machine} does not answer");
        }
        return call.Done.Task.GetAwaiter().GetResult();
    }

    private PlaceException Away(string why) =>
        new(PlaceFault.Unreachable, $"store {store} lies in {folder} on {machine}, and {why}; is the machine on, and its agent at work?");

    private void Lose(AgentOrder lost, string why)
    {
        lock (door)
        {
            if (order != lost)
                return;
            Fail(Away(why));
            lost.End();
            order = null;
        }
    }

    /// <summary>All that waits comes to nothing; the caller holds the door.</summary>
    private void Fail(PlaceException why)
    {
        foreach (var call in waiting.Concat(offered.Values))
            call.Done.TrySetException(why);
        waiting.Clear();
        offered.Clear();
    }

    public async Task<(long Number, byte[] Call)?> NextAsync(
        AgentOrder by,
        int worker,
        long number,
        ReadOnlyMemory<byte> answer,
        CancellationToken cancel
    )
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(WaitsAtMost);
        for (var first = true; ; first = false)
        {
            Task rung;
            lock (door)
            {
                if (by != order || by.IsOver)
                    throw new OrderOverException();
                if (first && offered.Remove(worker, out var before))
                {
                    if (before.Number == number)
                        before.Done.TrySetResult(answer.ToArray());
                    else
                    {
                        offered[worker] = before;
                        return (before.Number, before.Content);
                    }
                }
                if (waiting.TryDequeue(out var next))
                {
                    offered[worker] = next;
                    return (next.Number, next.Content);
                }
                if (clock.GetElapsedTime(askedAt) > IdleAtMost)
                {
                    by.End();
                    order = null;
                    throw new OrderOverException();
                }
                if (bell.Task.IsCompleted)
                    bell = NewBell();
                rung = bell.Task;
            }
            try
            {
                await rung.WaitAsync(limit.Token);
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                return null;
            }
        }
    }

    public void Report(CopyReportRequest report)
    {
        // It has no figures and no log of its own.
    }

    /// <summary>The machine does not let it be: nothing of it is answered.</summary>
    public void Fail(CopyFailRequest request)
    {
        lock (door)
        {
            Fail(
                new PlaceException(
                    PlaceFault.AccessRefused,
                    $"store {store} lies in {folder} on {machine}: {Basics.StrangersWords.OneLine(request.Message, 1000)}"
                )
            );
            order?.End();
            order = null;
        }
    }

    private static TaskCompletionSource NewBell() => new(TaskCreationOptions.RunContinuationsAsynchronously);
}
