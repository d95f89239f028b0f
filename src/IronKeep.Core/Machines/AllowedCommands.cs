using System.Collections.Immutable;
using IronKeep.Core.Charters;

namespace IronKeep.Core.Machines;

/// <summary>
/// Which commands a machine lets a service order, which folders it lets it keep stores in, and whose reports of watched jobs it passes on,
/// as the machine itself says it: each word as it is, where the word "*" is any one, and the user with it. Without such a list there is
/// none.
/// </summary>
public sealed record AllowedCommands(ImmutableArray<StepDefinition> All)
{
    /// <summary>The folders of this machine's disks in which a store may lie that the service looks after by the agent.</summary>
    public ImmutableArray<string> Stores { get; init; } = [];

    /// <summary>Whose reports of watched jobs are taken here, by name, beside those of root and of the agent's own user.</summary>
    public ImmutableArray<string> ReportsFrom { get; init; } = [];

    public static AllowedCommands None { get; } = new([]);

    /// <summary>Reads the list from the nodes of its file, or finds all its mistakes.</summary>
    public static (AllowedCommands? Allowed, ImmutableArray<Mistake> Mistakes) Read(CharterNode root)
    {
        var (mistakes, uses) = (new List<Mistake>(), new List<Use>());
        var read = new ValueReader("the list of commands", mistakes, uses);
        var all = ImmutableArray.CreateBuilder<StepDefinition>();
        var map = read.Map(root, ["allows", "stores", "reports-from"]);
        foreach (var folder in map.Strings("stores") ?? [])
            read.Path(folder);
        if (map.Map("allows") is { } commands)
            foreach (var (name, node) in commands.Entries)
                if (StepReader.Step(name.Value, node, new ValueReader($"command {name.Value}", mistakes, uses)) is { } step)
                    all.Add(step);
        return mistakes.Count > 0
            ? (null, [.. mistakes])
            : (
                new AllowedCommands(all.ToImmutable())
                {
                    Stores = [.. (map.Strings("stores") ?? []).Select(f => CharterReader.Normal(f.Value))],
                    ReportsFrom = [.. (map.Strings("reports-from") ?? []).Select(u => u.Value)],
                },
                []
            );
    }

    /// <summary>Whether a store may lie in a folder.</summary>
    public bool AllowsStore(string folder) => Stores.Contains(CharterReader.Normal(folder));

    /// <summary>Whether a command may be run as a user (null: the one that the agent runs as).</summary>
    public bool Allows(IReadOnlyList<string> command, string? user) =>
        All.Any(a =>
            a.As == user && a.Command.Length == command.Count && a.Command.Zip(command).All(w => w.First == "*" || w.First == w.Second)
        );
}
