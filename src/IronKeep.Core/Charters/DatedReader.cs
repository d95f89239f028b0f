using System.Collections.Immutable;
using IronKeep.Core.Dated;
using IronKeep.Core.Quantities;

namespace IronKeep.Core.Charters;

/// <summary>Reads what a charter says of a store whose copies are dated files that something else writes.</summary>
internal static class DatedReader
{
    /// <summary>What only such a store can say.</summary>
    private static readonly string[] Keys = [.. CharterLanguage.DatedStore.Select(k => k.Key)];

    /// <summary>What such a store cannot say: the service does not write it.</summary>
    private static readonly string[] OfOwn = ["key-file", "passphrase-file", "hash", "upload-at-most", "download-at-most", "runs-at-once"];

    public static DatedFiles? Read(MapReader map, bool isRemote, ValueReader read)
    {
        var layout = map.Scalar("layout");
        if (layout is not null && layout.Value is not ("pooled" or "plain" or "dated-files"))
            read.Wrong(
                layout,
                $"'{layout.Value}' is not a layout; write pooled, plain for archives that tar reads, or dated-files where something else "
                    + $"writes the copies"
            );
        if (layout?.Value != "dated-files")
        {
            foreach (var key in Keys)
                if (map.Any(key) is { } odd)
                    read.Wrong(
                        odd,
                        $"'{key}' goes with 'layout: dated-files', where something else writes the copies; take the line out, or add the "
                            + $"layout"
                    );
            return null;
        }
        if (isRemote)
            read.Wrong(
                layout,
                "dated files are looked after in a folder of this machine; mount the server's folder here, or let a service on that "
                    + "machine do it"
            );
        foreach (var key in OfOwn)
            if (map.Any(key) is { } odd)
                read.Wrong(odd, $"'{key}' does not go with dated files, which something else writes; take the line out");
        var kinds = Kinds(map.Any("kinds"), read);
        var (zone, settled) = (read.Zone(map.Scalar("zone")), read.Span(map.Scalar("settled-after")) ?? DatedFiles.UsualSettledAfter);
        if (map.Required("name", "say how the files are named: 'name: \"{job}-{yyyy}-{MM}-{dd}.tar.gz\"'") is not { } name)
            return null;
        var (pattern, problem) = NamePattern.Read(name.Value, kinds);
        if (pattern is null)
            read.Wrong(name, problem!);
        return pattern is null ? null : new DatedFiles(pattern, zone, settled);
    }

    /// <summary>The words of the kinds, as keys and values or, as a form writes them, as lines such as "full F".</summary>
    private static ImmutableArray<(CopyKind Kind, string Word)> Kinds(CharterNode? node, ValueReader read)
    {
        var found = new List<(CopyKind, string)>();
        foreach (var (key, word) in Pairs(node, read))
        {
            if (read.Word<CopyKind>(key) is not { } kind)
                continue;
            if (word.Value.Length == 0 || word.Value.Any(c => c == '/' || char.IsWhiteSpace(c)))
                read.Wrong(word, $"'{word.Value}' cannot stand in a file's name as the word of a kind; write letters or digits");
            else if (found.Exists(f => f.Item1 == kind || f.Item2 == word.Value))
                read.Wrong(word, $"the kind '{key.Value}' or the word '{word.Value}' stands twice; keep one of them");
            else
                found.Add((kind, word.Value));
        }
        return [.. found.OrderBy(f => f.Item1)];
    }

    private static IEnumerable<(ScalarNode Key, ScalarNode Word)> Pairs(CharterNode? node, ValueReader read)
    {
        if (node is MapNode map)
        {
            foreach (var (key, value) in map.Entries)
                if (value is ScalarNode word)
                    yield return (key, word);
                else
                    read.Wrong(value, $"the kind '{key.Value}' takes one word");
            yield break;
        }
        foreach (
            var line in node switch
            {
                null => [],
                ListNode list => list.Items.OfType<ScalarNode>(),
                ScalarNode one => [one],
                _ => [],
            }
        )
        {
            var space = line.Value.Trim().IndexOf(' ', StringComparison.Ordinal);
            if (space < 0)
                read.Wrong(line, $"'{line.Value}' is no kind with its word; write such as 'full F'");
            else
                yield return (
                    new ScalarNode(line.Value.Trim()[..space], line.Line, line.Column),
                    new ScalarNode(line.Value.Trim()[space..].Trim(), line.Line, line.Column)
                );
        }
    }
}
