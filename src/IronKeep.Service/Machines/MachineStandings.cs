using System.Collections.Concurrent;
using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Runs.Surroundings;
using IronKeep.Service.Basics;
using Microsoft.Extensions.Options;

namespace IronKeep.Service.Machines;

/// <summary>
/// Which machines are heard of at this service, and how they stand. It lives in memory: after a start a machine is heard of again within a
/// minute. Time is counted by the steady clock.
/// </summary>
public sealed class MachineStandings(MachineStanding own, TimeProvider clock, IOptions<ServiceSettings> settings)
{
    /// <summary>An agent speaks every 20 seconds, and after a broken line within a minute.</summary>
    public static readonly TimeSpan AwayAfter = TimeSpan.FromMinutes(3);
    private const int MostName = 200;
    private const int MostServices = 100,
        MostStarts = 100,
        MostProblem = 1000;
    private readonly ConcurrentDictionary<string, (long At, MachineState? State, IReadOnlyList<ServiceStanding> Services)> heard = new();

    /// <summary>How the services stand that are kept up here; null: not looked at yet.</summary>
    public Func<IReadOnlyList<ServiceStanding>>? OwnServices { get; set; }

    /// <summary>Notes that an agent spoke, and what it said of its machine.</summary>
    public void Heard(string machine, AgentSelf self)
    {
        var isBack = !IsHere(machine);
        heard[machine] = (clock.GetTimestamp(), Bounded(self.State), Bounded(self.Services));
        if (isBack)
            Back?.Invoke();
    }

    /// <summary>A machine is heard of that was not.</summary>
    public event Action? Back;

    public bool IsHere(string machine) =>
        machine == settings.Value.Machine || (heard.TryGetValue(machine, out var last) && clock.GetElapsedTime(last.At) <= AwayAfter);

    /// <summary>How it stands; null while it is not heard of here, or by an agent that does not say.</summary>
    public MachineState? Of(string machine) =>
        machine == settings.Value.Machine ? own.Now
        : IsHere(machine) ? heard[machine].State
        : null;

    /// <summary>How the services stand that are kept up on a machine; none while it is not heard of.</summary>
    public IReadOnlyList<ServiceStanding> ServicesOf(string machine) =>
        machine == settings.Value.Machine ? OwnServices?.Invoke() ?? []
        : IsHere(machine) ? heard[machine].Services
        : [];

    private static IReadOnlyList<ServiceStanding> Bounded(IReadOnlyList<ServiceStanding>? said) =>
        [
            .. (said ?? [])
                .Where(s => s is { Job: not null })
                .Take(MostServices)
                .Select(s =>
                    s with
                    {
                        Job = StrangersWords.OneLine(s.Job, MostName),
                        Starts = [.. (s.Starts ?? []).Take(MostStarts)],
                        Problem = s.Problem is null ? null : StrangersWords.OneLine(s.Problem, MostProblem),
                    }
                ),
        ];

    /// <summary>What a machine says of itself is kept as far as a decent one would go.</summary>
    private static MachineState? Bounded(MachineState? said) =>
        said is null
            ? null
            : said with
            {
                IdleSeconds = Seconds(said.IdleSeconds),
                AwakeSeconds = Seconds(said.AwakeSeconds),
                Networks = said.Networks is null
                    ? null
                    : [.. said.Networks.Take(MachineState.MostNetworks).Select(n => StrangersWords.OneLine(n ?? "", MostName))],
                Rooms = said.Rooms is null
                    ? null
                    :
                    [
                        .. said
                            .Rooms.Where(r => r is { Mount: not null, Free: >= 0 })
                            .Take(MachineState.MostRooms)
                            .Select(r => r with { Mount = StrangersWords.OneLine(r.Mount, MostName) }),
                    ],
            };

    private static double? Seconds(double? said) => said is >= 0 and < double.MaxValue ? said : null;
}
