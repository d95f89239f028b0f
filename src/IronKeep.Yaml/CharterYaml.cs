using System.Collections.Immutable;
using IronKeep.Core.Charters;
using YamlDotNet.Core;
using YamlDotNet.Core.Events;

namespace IronKeep.Yaml;

/// <summary>
/// Turns YAML text into charter nodes. Stays close to the parser's events, so that places are exact, repeated keys are seen, and
/// nothing in the text can make it do more work than the text is long: aliases and tags are refused.
/// </summary>
public static class CharterYaml
{
    /// <summary>The largest charter, in characters.</summary>
    public const int LargestText = 16 * 1024 * 1024;
    private const int DeepestNesting = 16;

    /// <summary>
    /// The charter with the places of its objects, or all its mistakes in the order of the text. <paramref name="own"/> is the machine of
    /// whoever goes by it.
    /// </summary>
    public static CharterReading Read(string yaml, string own = "")
    {
        var (root, problem) = ReadNodes(yaml);
        return root is null ? CharterReading.Unreadable(problem!.Line, problem.Column, problem.Message) : CharterReader.Read(root, own);
    }

    /// <summary>The nodes of a text, or why there are none; exactly one of the two is null.</summary>
    public static (CharterNode? Root, Mistake? Problem) ReadNodes(string yaml)
    {
        if (yaml.Length > LargestText)
            return Unreadable(1, 1, $"the text has {yaml.Length} characters; the most is {LargestText}");
        var scanner = new Scanner(new StringReader(yaml), skipComments: true);
        try
        {
            var parser = new Parser(scanner);
            parser.Consume<StreamStart>();
            if (parser.Accept<StreamEnd>(out _))
                return Unreadable(1, 1, $"the text is empty; begin it with 'charter: {Charter.Version}'");
            parser.Consume<DocumentStart>();
            var root = ReadNode(parser, 0);
            parser.Consume<DocumentEnd>();
            if (!parser.Accept<StreamEnd>(out _))
                throw new NodeException(parser.Current!.Start, "a second document begins here; keep one document in a file");
            return (root, null);
        }
        catch (NodeException e)
        {
            return Unreadable((int)e.At.Line, (int)e.At.Column, e.Message);
        }
        catch (YamlException e)
        {
            return NotYaml(e.Start, e.Message);
        }
        catch (InvalidOperationException)
        {
            // The scanner's way of saying that a plain text stands where a key must be.
            return NotYaml(scanner.CurrentPosition, "a key or value is broken off");
        }
    }

    private static (CharterNode?, Mistake?) Unreadable(int line, int column, string message) =>
        (null, new Mistake(line, column, "the text", message));

    private static (CharterNode?, Mistake?) NotYaml(Mark at, string why) =>
        Unreadable((int)at.Line, (int)at.Column, $"this is not YAML: {Plain(why)}; check the indentation and quotes here and just before");

    private static CharterNode ReadNode(Parser parser, int depth)
    {
        var at = parser.Current is null && !parser.MoveNext() ? default : parser.Current!.Start;
        if (depth > DeepestNesting)
            throw new NodeException(at, "nested too deeply; a charter has four levels");
        var (line, column) = ((int)at.Line, (int)at.Column);
        if (parser.TryConsume<Scalar>(out var scalar))
            return new ScalarNode(Value(scalar), line, column);
        if (parser.TryConsume<SequenceStart>(out _))
        {
            var items = ImmutableArray.CreateBuilder<CharterNode>();
            while (!parser.TryConsume<SequenceEnd>(out _))
                items.Add(ReadNode(parser, depth + 1));
            return new ListNode(items.ToImmutable(), line, column);
        }
        if (parser.TryConsume<MappingStart>(out _))
        {
            var entries = ImmutableArray.CreateBuilder<(ScalarNode, CharterNode)>();
            while (!parser.TryConsume<MappingEnd>(out _))
            {
                if (ReadNode(parser, depth + 1) is not ScalarNode key)
                    throw new NodeException(at, "a key must be a single text");
                entries.Add((key, ReadNode(parser, depth + 1)));
            }
            return new MapNode(entries.ToImmutable(), line, column);
        }
        throw new NodeException(
            at,
            parser.Current is AnchorAlias
                ? "aliases (*name) are not used in charters; write the value out"
                : "this cannot stand in a charter"
        );
    }

    // An unquoted null or ~ is no value; quoted, it is text.
    private static string Value(Scalar scalar) => scalar.Style == ScalarStyle.Plain && scalar.Value is "~" or "null" ? "" : scalar.Value;

    private static string Plain(string message) => message.TrimEnd('.').Split('\n')[0];

    private sealed class NodeException(Mark at, string message) : Exception(message)
    {
        public Mark At { get; } = at;
    }
}
