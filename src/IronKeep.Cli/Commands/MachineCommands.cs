using System.CommandLine;
using System.Globalization;
using IronKeep.Cli.Client;
using IronKeep.Cli.Printing;
using IronKeep.Contracts;
using IronKeep.Core.Machines;
using IronKeep.Core.Quantities;

namespace IronKeep.Cli.Commands;

/// <summary>The machines, and which of them have an agent.</summary>
internal static class MachineCommands
{
    /// <summary>A clock that is further off than this is worth a word (seconds).</summary>
    private const double ClockCounts = 120;
    private const int MostRooms = 5;

    public static Command Make() =>
        Common.Noun(
            "machine",
            "Machines, and the agents that work on them",
            List(),
            ShowOne(),
            Enrol(),
            ShutOut(),
            CameBack(),
            Retiring.Make(),
            Importing.Make()
        );

    private static Command List()
    {
        var only = new Option<string?>("--coverage")
        {
            Description = $"Only those that are {string.Join(", ", Enum.GetValues<Coverage>().Select(c => c.Word()))}",
        };
        return Common.Verb(
            "list",
            "All machines, how they are protected, and how their agents stand",
            async (parsed, client, cancel) =>
            {
                var query = parsed.GetValue(only) is { } wanted ? $"machines?coverage={Uri.EscapeDataString(wanted)}" : "machines";
                var answer = await client.GetAsync<MachinesAnswer>(query, cancel);
                if (Common.AsJson(parsed))
                    Show.Json(answer);
                else
                    Print(answer);
                return answer.Machines.Any(m => m.State == AgentState.Lapsed || MachineCoverage.IsBadClass(m.Coverage.Class))
                    ? Root.Findings
                    : Root.Done;
            },
            only
        );
    }

    private static void Print(MachinesAnswer answer)
    {
        Show.Table(
            ["machine", "site", "coverage", ">jobs", "agent", "last heard", "version"],
            answer.Machines.Select(m =>
                new[]
                {
                    m.Name,
                    m.Site ?? "",
                    m.Coverage.Class.Word(),
                    m.Jobs.ToString(CultureInfo.InvariantCulture),
                    State(m),
                    m.HeardAt is { } heard ? Show.When(heard) : "",
                    m.Version ?? "",
                }
            ),
            "There is no such machine."
        );
        foreach (var m in answer.Machines.Where(m => MachineCoverage.IsBadClass(m.Coverage.Class)))
            Show.Line($"{m.Name} is {m.Coverage.Class.Word()}: {m.Coverage.Why}");
    }

    private static Command ShowOne()
    {
        var name = Name();
        return Common.Verb(
            "show",
            "One machine",
            async (parsed, client, cancel) =>
            {
                var machine = await client.GetAsync<MachineAnswer>($"machines/{Uri.EscapeDataString(parsed.GetValue(name)!)}", cancel);
                if (Common.AsJson(parsed))
                    Show.Json(machine);
                else
                    Print(machine);
                return machine.State == AgentState.Lapsed || MachineCoverage.IsBadClass(machine.Coverage.Class) ? Root.Findings : Root.Done;
            },
            name
        );
    }

    private static Command Enrol()
    {
        var name = Name();
        return Common.Verb(
            "enrol",
            "Make a code, good once and for an hour, with which a machine's agent joins",
            async (parsed, client, cancel) =>
            {
                var answer = await client.PostAsync<EnrolmentAnswer>(
                    $"machines/{Uri.EscapeDataString(parsed.GetValue(name)!)}/enrolment",
                    null,
                    cancel
                );
                if (Common.AsJson(parsed))
                {
                    Show.Json(answer);
                    return Root.Done;
                }
                if (answer.Replaces)
                    Show.Line($"Machine {answer.Machine} has an agent already; it loses its right when another joins with this code.");
                Show.Line($"Give this on {answer.Machine}, as root, by {Show.When(answer.Until)}. It works once:");
                Show.Line("");
                Show.Line($"  {answer.Command}");
                return Root.Done;
            },
            name
        );
    }

    private static Command ShutOut()
    {
        var name = Name();
        var reason = new Option<string>("--reason") { Description = "Why; whoever looks at the machine next reads it", Required = true };
        return Common.Verb(
            "shut-out",
            "Take a machine's right away at once: its agent can do nothing more",
            async (parsed, client, cancel) =>
            {
                var machine = await client.PostAsync<MachineAnswer>(
                    $"machines/{Uri.EscapeDataString(parsed.GetValue(name)!)}/shut-out",
                    new ShutOutRequest(parsed.GetValue(reason)!),
                    cancel
                );
                if (Common.AsJson(parsed))
                    Show.Json(machine);
                else
                    Show.Line(
                        machine.State == AgentState.Enrolled
                            ? $"The code that was made for {machine.Name} is out of use."
                            : $"Machine {machine.Name} is shut out. What it stored stays; its jobs are still due and will be missed "
                                + "until it joins again."
                    );
                return Root.Done;
            },
            name,
            reason
        );
    }

    private static Command CameBack()
    {
        var name = Name();
        var renamed = new Option<bool>("--renamed") { Description = "It is this machine, and has its new name from now on" };
        var another = new Option<bool>("--another") { Description = "It is another machine; it needs a key of its own" };
        return Common.Verb(
            "came-back",
            "Say what a machine is that came with this one's key under another name",
            async (parsed, client, cancel) =>
            {
                var machine = parsed.GetValue(name)!;
                if (parsed.GetValue(renamed) == parsed.GetValue(another))
                    throw new AnswerException(
                        Root.NotUnderstood,
                        "say one of the two: --renamed where it is the same machine, --another where it is not"
                    );
                await client.PostAsync<object>(
                    $"machines/{Uri.EscapeDataString(machine)}/came-back",
                    new CameBackRequest(parsed.GetValue(renamed)),
                    cancel
                );
                Show.Line(
                    parsed.GetValue(renamed)
                        ? "Its key has the new name now; give the join command there once more. What it stored stays under the old name: "
                            + $"retire {machine}, and see what its copies are still for."
                        : "It has to make a key of its own: remove the agent's folder there, and join again."
                );
                return Root.Done;
            },
            name,
            renamed,
            another
        );
    }

    internal static Argument<string> Name() => new("name") { Description = "The machine" };

    private static string State(MachineAnswer machine) =>
        machine.Own ? "the service itself"
        : machine.ReadOver is not null ? "none, read over SFTP"
        : machine.State == AgentState.None ? "none"
        : machine.Away ? "joined, away"
        : machine.State.Word();

    private static void Print(MachineAnswer m)
    {
        Fact("machine", m.Name);
        Fact("site", m.Site);
        Fact("owner", m.Owner);
        Fact("tags", m.Tags.Count == 0 ? null : string.Join(", ", m.Tags));
        Fact("charter", m.Declared ? null : "does not declare it");
        Fact("jobs", m.Jobs.ToString(CultureInfo.InvariantCulture));
        Fact("coverage", $"{m.Coverage.Class.Word()}: {m.Coverage.Why}");
        Fact("since", m.Coverage.Since is { } since ? Show.When(since) : null);
        Fact("excepted from", m.ExceptedFrom.Count == 0 ? null : string.Join(", ", m.ExceptedFrom));
        Fact("copies", m.Retired is { } r ? $"kept until {r.CopiesUntil}; {r.CopiesOwner} decides about them by {r.DecideBy}" : null);
        Fact("agent", State(m));
        Fact("read over", m.ReadOver);
        Fact("code good until", m.CodeUntil is { } until ? Show.When(until) : null);
        Fact("joined", m.JoinedAt is { } joined ? $"{Show.When(joined)}, enrolled by {m.EnrolledBy}" : null);
        Fact("last heard", m.HeardAt is { } heard ? $"{Show.When(heard)} from {m.Address}" : null);
        Fact(
            "right until",
            m is { State: AgentState.Joined, RightUntil: { } right } ? $"{Show.When(right)} without another contact" : null
        );
        Fact("right ended", m is { State: AgentState.Lapsed, RightUntil: { } ended } ? Show.When(ended) : null);
        Fact("shut out", m.ShutOutAt is { } shut ? $"{Show.When(shut)} by {m.ShutOutBy}: {m.ShutOutWhy}" : null);
        Fact("version", m.Version is null ? null : $"{m.Version}, {m.System}");
        if (m.ClockAhead is { } ahead && Math.Abs(ahead) > ClockCounts)
        {
            var off = TimeSpan.FromSeconds(Math.Abs(ahead)).ToString("c", CultureInfo.InvariantCulture);
            Fact("CLOCK", $"{off} {(ahead > 0 ? "ahead of" : "behind")} the service's");
        }
        foreach (var s in m.Services)
            Fact(
                s.Up == true ? "service" : "SERVICE",
                $"of {s.Job}: {(s.Up switch { true => "up", false => "DOWN", null => "cannot be told" })} since {Show.When(s.Since)}"
                    + (s.Starts.Count > 0 ? $", started again {Show.When(s.Starts[^1])}" : "")
                    + (s.Problem is null ? "" : $": {s.Problem}")
            );
        if (m.Stands is not { } stands)
            return;
        Fact("power", stands.OnMains is { } mains ? (mains ? "mains" : "battery") : null);
        Fact("awake for", stands.AwakeSeconds is { } awake ? Show.Took(awake) : null);
        Fact("idle for", stands.IdleSeconds is { } idle ? Show.Took(idle) : null);
        Fact(
            "networks",
            stands.Networks is { Count: > 0 } networks ? string.Join(", ", networks) + (stands.Metered == true ? "; metered" : "") : null
        );
        foreach (var (room, at) in (stands.Rooms ?? []).OrderBy(r => r.Free).Take(MostRooms).Select((r, at) => (r, at)))
            Fact(at == 0 ? "free" : "", $"{new ByteSize(room.Free)} at {room.Mount}");
    }

    private static void Fact(string what, string? words)
    {
        if (words is not null)
            Show.Line($"{what, -17}{words}");
    }
}
