using System.Collections.Immutable;

namespace IronKeep.Core.Charters;

/// <summary>A piece of a charter's text, with the place where it stands (line and column from 1). Free of any one notation.</summary>
public abstract record CharterNode(int Line, int Column);

/// <summary>A single value, as its text.</summary>
public sealed record ScalarNode(string Value, int Line, int Column) : CharterNode(Line, Column);

/// <summary>A list of values.</summary>
public sealed record ListNode(ImmutableArray<CharterNode> Items, int Line, int Column) : CharterNode(Line, Column);

/// <summary>Keys with values, in the order of the text; the same key may occur twice, which the reader reports.</summary>
public sealed record MapNode(ImmutableArray<(ScalarNode Key, CharterNode Value)> Entries, int Line, int Column) : CharterNode(Line, Column);

/// <summary>One thing wrong in a charter: where (line and column from 1), about what, and a sentence with the way out.</summary>
public sealed record Mistake(int Line, int Column, string About, string Message);

/// <summary>
/// What reading a charter gives: the charter, or null with at least one mistake; and where each object stands in the text, by
/// its kind and name ("job ringing-register").
/// </summary>
public sealed record CharterReading(
    Charter? Charter,
    ImmutableArray<Mistake> Mistakes,
    IReadOnlyDictionary<string, (int Line, int Column)> Places
)
{
    /// <summary>What is no mistake, and should be looked at.</summary>
    public ImmutableArray<Mistake> Notes { get; init; } = [];

    /// <summary>A text that gave no charter at all, for one reason.</summary>
    public static CharterReading Unreadable(int line, int column, string message) =>
        new(null, [new Mistake(line, column, "the charter", message)], new Dictionary<string, (int, int)>());
}
