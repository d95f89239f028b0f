using System.Collections.Immutable;
using IronKeep.Core.Charters;

namespace IronKeep.Core.Machines;

/// <summary>
/// Which commands a machine lets a service order, as the machine itself says it: each word as it is, where the word "*" is any one, and the
/// user with it. Without such a list there is none.
/// </summary>
public sealed record AllowedCommands(ImmutableArray<StepDefinition> All)
{
    public static AllowedCommands None { get; } = new([]);

    /// <summary>Reads the list from the nodes of its file, or finds all its mistakes.</summary>
    public static (AllowedCommands? Allowed, ImmutableArray<Mistake> Mistakes) Read(CharterNode root)
    {
        var (mistakes, uses) = (new List<Mistake>(), new List<Use>());
        var read = new ValueReader("the list of commands", mistakes, uses);
        var all = ImmutableArray.CreateBuilder<StepDefinition>();
        if (read.Map(root, ["allows"]).Map("allows") is { } commands)
            foreach (var (name, node) in commands.Entries)
                if (StepReader.Step(name.Value, node, new ValueReader($"command {name.Value}", mistakes, uses)) is { } step)
                    all.Add(step);
        return mistakes.Count > 0 ? (null, [.. mistakes]) : (new AllowedCommands(all.ToImmutable()), []);
    }

    /// <summary>Whether a command may be run as a user (null: the one that the agent runs as).</summary>
    public bool Allows(IReadOnlyList<string> command, string? user) =>
        All.Any(a =>
            a.As == user && a.Command.Length == command.Count && a.Command.Zip(command).All(w => w.First == "*" || w.First == w.Second)
        );
}
