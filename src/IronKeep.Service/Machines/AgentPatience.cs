using IronKeep.Core.Watching;
using IronKeep.Runs;

namespace IronKeep.Service.Machines;

/// <summary>
/// Waits for an agent that has an order: for it to come, for signs of life, and for the end. Waiting is by the steady clock.
/// </summary>
public sealed class AgentPatience
{
    /// <summary>How long an agent has to come for an order, and how long one that came may be silent.</summary>
    private static readonly TimeSpan ComesWithin = TimeSpan.FromMinutes(2),
        SilentAtMost = TimeSpan.FromMinutes(15);

    /// <summary>How often it looks (real time).</summary>
    private static readonly TimeSpan LooksEvery = TimeSpan.FromMilliseconds(200);

    /// <summary>
    /// Returns when it is done. An agent that does not come, is silent, or was started anew is a <see cref="RunFailedException"/>, which
    /// says what becomes of what was done in the words of <paramref name="afterwards"/>.
    /// </summary>
    public async Task WaitAsync(AgentOrder given, Task done, string afterwards, CancellationToken cancel)
    {
        while (!done.IsCompleted)
        {
            await Task.WhenAny(done, Task.Delay(LooksEvery, cancel));
            if (done.IsCompleted)
                return;
            if (cancel.IsCancellationRequested)
                given.Stop();
            cancel.ThrowIfCancellationRequested();
            if (given.IsLost)
                throw new RunFailedException(
                    FailureClass.Interrupted,
                    $"the agent of {given.Machine} was started anew in the middle of it; {afterwards}"
                );
            if (given.IsWaiting && given.Silence > ComesWithin)
                throw new RunFailedException(
                    FailureClass.MachineAway,
                    $"the agent of {given.Machine} did not come for it within {ComesWithin.TotalMinutes:0} minutes; is the machine on, "
                        + $"and its agent at work?"
                );
            if (!given.IsWaiting && given.Silence > SilentAtMost)
                throw new RunFailedException(
                    FailureClass.MachineAway,
                    $"the agent of {given.Machine} was not heard of for {SilentAtMost.TotalMinutes:0} minutes in the middle of it; "
                        + afterwards
                );
        }
    }
}
