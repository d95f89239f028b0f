using IronKeep.Core.Quantities;

namespace IronKeep.Core.Charters;

/// <summary>Reads the known keys of one map; reports unknown and repeated keys and values of the wrong shape.</summary>
internal sealed class MapReader
{
    private readonly CharterNode node;
    private readonly string about;
    private readonly List<Mistake> mistakes;
    private readonly Dictionary<string, CharterNode> values = [];

    public MapReader(CharterNode node, string about, List<Mistake> mistakes, string[] known)
    {
        this.node = node;
        this.about = about;
        this.mistakes = mistakes;
        if (node is not MapNode map)
        {
            Wrong(node, $"{about} must be keys and values; the keys are {string.Join(", ", known)}");
            return;
        }
        foreach (var (key, value) in map.Entries)
        {
            if (!known.Contains(key.Value))
            {
                var near = Nearest.To(key.Value, known);
                Wrong(
                    key,
                    $"unknown key '{key.Value}'; "
                        + $"{(near is null ? $"the keys here are {string.Join(", ", known)}" : $"did you mean '{near}'?")}"
                );
            }
            else if (!values.TryAdd(key.Value, value))
            {
                Wrong(key, $"the key '{key.Value}' stands twice; keep one of them");
            }
        }
    }

    /// <summary>The text of an optional key.</summary>
    public ScalarNode? Scalar(string key)
    {
        if (!values.TryGetValue(key, out var value))
            return null;
        if (value is ScalarNode { Value.Length: > 0 } scalar)
            return scalar;
        values.Remove(key);
        Wrong(
            value,
            value is ScalarNode
                ? $"'{key}' has no value; give it one or remove the line"
                : $"'{key}' takes a single value, not {(value is ListNode ? "a list" : "keys")}"
        );
        return null;
    }

    /// <summary>The text of a key that must be there.</summary>
    public ScalarNode? Required(string key, string remedy)
    {
        if (!values.ContainsKey(key))
            Missing(key, remedy);
        return Scalar(key);
    }

    /// <summary>Whatever stands under a key; null when the key is absent.</summary>
    public CharterNode? Any(string key) => values.GetValueOrDefault(key);

    public void Missing(string key, string remedy)
    {
        if (node is MapNode)
            Wrong(node, $"'{key}' is missing; {remedy}");
    }

    /// <summary>The map under an optional key.</summary>
    public MapNode? Map(string key)
    {
        if (!values.TryGetValue(key, out var value) || value is ScalarNode { Value: "" })
            return null;
        if (value is MapNode map)
            return map;
        Wrong(value, $"'{key}' takes names with their settings below them, not {(value is ListNode ? "a list" : "a single value")}");
        return null;
    }

    /// <summary>The items under a key that takes a list; none when the key is absent.</summary>
    public IReadOnlyList<CharterNode> Nodes(string key)
    {
        if (!values.TryGetValue(key, out var value))
            return [];
        if (value is ListNode list)
            return [.. list.Items];
        Wrong(value, $"'{key}' takes a list");
        return [];
    }

    /// <summary>The texts under a key that takes one or a list of them; null when the key is absent.</summary>
    public List<ScalarNode>? Strings(string key)
    {
        if (!values.TryGetValue(key, out var value))
            return null;
        if (value is ScalarNode)
            return Scalar(key) is { } one ? [one] : null;
        if (value is ListNode list)
        {
            foreach (var item in list.Items.Where(i => i is not ScalarNode { Value.Length: > 0 }))
                Wrong(item, $"every item under '{key}' is a single text");
            return list.Items.OfType<ScalarNode>().Where(s => s.Value.Length > 0).ToList();
        }
        Wrong(value, $"'{key}' takes a list of texts, not keys");
        return [];
    }

    private void Wrong(CharterNode at, string message) => mistakes.Add(new Mistake(at.Line, at.Column, about, message));
}
