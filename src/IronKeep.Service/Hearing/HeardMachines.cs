using IronKeep.Service.Basics;
using IronKeep.Service.Machines;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Hearing;

/// <summary>The machines whose agents hear of their watched jobs there: all that joined, beside the one that the service runs on.</summary>
public sealed class HeardMachines(AgentBook book, IOptions<ServiceSettings> settings, TimeProvider clock)
{
    private static readonly TimeSpan Holds = TimeSpan.FromSeconds(5);
    private (long At, IReadOnlySet<string> Machines)? last;

    /// <summary>Their names; the same set for as long as they are the same. Known again within seconds of a change.</summary>
    public async Task<IReadOnlySet<string>> NowAsync(CancellationToken cancel)
    {
        if (last is { } known && clock.GetElapsedTime(known.At) is var age && age >= TimeSpan.Zero && age < Holds)
            return known.Machines;
        IReadOnlySet<string> now = (await book.JoinedAsync(cancel)).Where(m => m != settings.Value.Machine).ToHashSet();
        if (last?.Machines is { } before && before.SetEquals(now))
            now = before;
        last = (clock.GetTimestamp(), now);
        return now;
    }
}
