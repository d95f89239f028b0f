namespace IronKeep.Service.Basics;

/// <summary>Wakes one loop that waits; signals that come while it works are served by its next look, together.</summary>
public class WakeSignal : IDisposable
{
    private readonly SemaphoreSlim signal = new(0);

    public void Wake() => signal.Release();

    /// <summary>Waits for a signal, at most so long (real time).</summary>
    public async Task WaitAsync(TimeSpan most, CancellationToken cancel)
    {
        await signal.WaitAsync(most, cancel);
        while (signal.Wait(0, CancellationToken.None))
        {
            // One look serves all signals that have come.
        }
    }

    public void Dispose()
    {
        signal.Dispose();
        GC.SuppressFinalize(this);
    }
}
