using IronKeep.Core.Charters;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Machines;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Hearing;

/// <summary>The machines whose agents hear of their watched jobs there: all that joined, beside the one that the service runs on.</summary>
public sealed class HeardMachines(AgentBook book, CharterInForce inForce, IOptions<ServiceSettings> settings, TimeProvider clock)
{
    private static readonly TimeSpan Holds = TimeSpan.FromSeconds(5);
    private (long At, Charter Charter, IReadOnlySet<string> Machines)? last;

    /// <summary>
    /// Their names; the same set for as long as they are the same. Known again within seconds of a change, and with each charter at once:
    /// the log of a job that is new on a machine that just joined would be read here as well as there.
    /// </summary>
    public async Task<IReadOnlySet<string>> NowAsync(CancellationToken cancel)
    {
        var charter = inForce.Charter;
        if (
            last is { } known
            && ReferenceEquals(known.Charter, charter)
            && clock.GetElapsedTime(known.At) is var age
            && age >= TimeSpan.Zero
            && age < Holds
        )
            return known.Machines;
        IReadOnlySet<string> now = (await book.JoinedAsync(cancel)).Where(m => m != settings.Value.Machine).ToHashSet();
        if (last?.Machines is { } before && before.SetEquals(now))
            now = before;
        last = (clock.GetTimestamp(), charter, now);
        return now;
    }
}
