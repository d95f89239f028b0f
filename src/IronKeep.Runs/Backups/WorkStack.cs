namespace IronKeep.Runs.Backups;

/// <summary>What is left to do, last in first out, shared by all workers; it is over when it is empty and nobody works any more.</summary>
internal sealed class WorkStack<T>
{
    private readonly Stack<T> items = new();
    private int working;
    private bool stopped;

    public void Push(T item)
    {
        lock (items)
        {
            items.Push(item);
            Monitor.Pulse(items);
        }
    }

    /// <summary>Waits for something to do; false when everything is done. Who got something calls <see cref="Done"/> afterwards.</summary>
    public bool TryTake(out T item)
    {
        lock (items)
        {
            while (items.Count == 0 && working > 0 && !stopped)
                Monitor.Wait(items);
            if (stopped || !items.TryPop(out item!))
            {
                item = default!;
                return false;
            }
            working++;
            return true;
        }
    }

    public void Done()
    {
        lock (items)
        {
            working--;
            if (working == 0 && items.Count == 0)
                Monitor.PulseAll(items);
        }
    }

    /// <summary>Sends everybody home.</summary>
    public void Stop()
    {
        lock (items)
        {
            stopped = true;
            Monitor.PulseAll(items);
        }
    }
}
