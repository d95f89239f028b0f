using System.Collections.Immutable;
using System.Globalization;
using IronKeep.Core.Charters;
using IronKeep.Core.Quantities;
using IronKeep.Core.Schedules;

namespace IronKeep.Core.Machines;

/// <summary>
/// Which machines are meant, by what is declared of them: <c>site = lighthouse and not tag lab</c>. <c>not</c> binds closest, then
/// <c>and</c>, then <c>or</c>; parentheses group. Tests: <c>site</c>, <c>owner</c> and <c>name</c> with = or != (a * in a name is any
/// text), <c>tag NAME</c>, <c>importance</c> with = != &lt; &lt;= &gt; &gt;=, and <c>all</c>. Source: docs/charter.md, "Many machines".
/// </summary>
public sealed class MachineExpression
{
    private const int MostLength = 1000,
        MostDepth = 40;
    private const string Known = "write 'site = lighthouse', 'owner = NAME', 'name = tern-*', 'tag NAME', 'importance >= 4' or 'all'";
    private readonly Func<MachineDefinition, bool> test;

    private MachineExpression(string words, Func<MachineDefinition, bool> test) => (Words, this.test) = (words, test);

    /// <summary>As it was written.</summary>
    public string Words { get; }

    public bool Takes(MachineDefinition machine) => test(machine);

    /// <summary>The expression, or the problem with its place; exactly one of the two is null.</summary>
    public static (MachineExpression? Expression, SentenceProblem? Problem) Read(string text)
    {
        if (text.Length > MostLength)
            return (null, new SentenceProblem(0, $"an expression of {text.Length} characters is too long; {MostLength} are the most"));
        var parser = new Parser(text);
        var test = parser.Or(0);
        return parser.Problem is { } problem ? (null, problem) : (new MachineExpression(text.Trim(), test), null);
    }

    public override string ToString() => Words;

    private readonly record struct Token(string Text, int At);

    private sealed class Parser
    {
        private readonly ImmutableArray<Token> tokens;
        private readonly int end;
        private int next;

        public Parser(string text) => (tokens, end) = ([.. Tokens(text)], text.Length);

        public SentenceProblem? Problem { get; private set; }

        public Func<MachineDefinition, bool> Or(int depth)
        {
            var all = new List<Func<MachineDefinition, bool>> { And(depth) };
            while (Takes("or"))
                all.Add(And(depth));
            if (depth == 0 && Problem is null && next < tokens.Length)
                Wrong(tokens[next].At, $"'{tokens[next].Text}' is not expected here; join tests with 'and' or 'or'");
            return all.Count == 1 ? all[0] : m => all.Exists(t => t(m));
        }

        private Func<MachineDefinition, bool> And(int depth)
        {
            var all = new List<Func<MachineDefinition, bool>> { Not(depth) };
            while (Takes("and"))
                all.Add(Not(depth));
            return all.Count == 1 ? all[0] : m => all.TrueForAll(t => t(m));
        }

        private Func<MachineDefinition, bool> Not(int depth)
        {
            if (depth > MostDepth)
            {
                Wrong(next < tokens.Length ? tokens[next].At : end, "the expression is nested too deeply; write it with fewer parentheses");
                return Nothing;
            }
            if (Takes("not"))
            {
                var what = Not(depth + 1);
                return m => !what(m);
            }
            if (!Takes("("))
                return Test();
            var inner = Or(depth + 1);
            if (!Takes(")"))
                Wrong(next < tokens.Length ? tokens[next].At : end, "a ')' is missing");
            return inner;
        }

        private Func<MachineDefinition, bool> Test()
        {
            if (Problem is not null)
                return Nothing;
            if (next == tokens.Length)
                return Wrong(end, $"a test is missing at the end; {Known}");
            var what = tokens[next++];
            switch (what.Text)
            {
                case MachineSelection.AllWord:
                    return _ => true;
                case "tag":
                    return Name("a tag") is { } tag ? m => m.Tags.Contains(tag) : Nothing;
                case "site":
                    return Compared(what, m => m.Site);
                case "owner":
                    return Compared(what, m => m.Owner);
                case "name":
                    return Compared(what, m => m.Name, pattern: true);
                case "importance":
                    return Importance(what);
                default:
                    var near = Nearest.To(what.Text, ["all", "tag", "site", "owner", "name", "importance", "and", "or", "not"]);
                    return Wrong(
                        what.At,
                        near is null
                            ? $"'{what.Text}' is nothing that a machine is known by; {Known}"
                            : $"'{what.Text}' is nothing that a machine is known by; did you mean '{near}'?"
                    );
            }
        }

        private Func<MachineDefinition, bool> Compared(Token what, Func<MachineDefinition, string?> of, bool pattern = false)
        {
            var unlike = Takes("!=");
            if (!unlike && !Takes("="))
                return Wrong(after: what, $"'{what.Text}' needs '=' or '!=' and a name: '{what.Text} = NAME'");
            if (Name($"a {what.Text}", pattern) is not { } name)
                return Nothing;
            return m => (of(m) is { } value && (pattern ? Fits(value, name) : value == name)) != unlike;
        }

        private Func<MachineDefinition, bool> Importance(Token what)
        {
            if (next == tokens.Length || tokens[next].Text is not ("=" or "!=" or "<" or "<=" or ">" or ">=") || next + 1 == tokens.Length)
                return Wrong(after: what, "'importance' needs a comparison with 1 to 5: 'importance >= 4'");
            var (by, number) = (tokens[next].Text, tokens[next + 1]);
            next += 2;
            if (!int.TryParse(number.Text, NumberStyles.None, CultureInfo.InvariantCulture, out var than) || than is < 1 or > 5)
                return Wrong(number.At, $"'{number.Text}' is no importance; write one from 1 to 5");
            return m =>
            {
                var is_ = m.Importance ?? MachineDefinition.UsualImportance;
                return by switch
                {
                    "=" => is_ == than,
                    "!=" => is_ != than,
                    "<" => is_ < than,
                    "<=" => is_ <= than,
                    ">" => is_ > than,
                    _ => is_ >= than,
                };
            };
        }

        private string? Name(string what, bool pattern = false)
        {
            if (next == tokens.Length)
            {
                Wrong(tokens[next - 1], $"the name is missing after '{tokens[next - 1].Text}'");
                return null;
            }
            var name = tokens[next++];
            var plain = pattern ? name.Text.Replace("*", "a", StringComparison.Ordinal) : name.Text;
            if (CharterReader.IsName(plain))
                return name.Text;
            Wrong(name.At, $"'{name.Text}' cannot be {what}; names have lower-case letters, digits and hyphens");
            return null;
        }

        private bool Takes(string word)
        {
            if (Problem is not null || next == tokens.Length || tokens[next].Text != word)
                return false;
            next++;
            return true;
        }

        private Func<MachineDefinition, bool> Wrong(Token after, string message) => Wrong(after.At + after.Text.Length, message);

        private Func<MachineDefinition, bool> Wrong(int at, string message)
        {
            Problem ??= new SentenceProblem(at, message);
            return Nothing;
        }

        private static bool Nothing(MachineDefinition machine) => false;
    }

    private static IEnumerable<Token> Tokens(string text)
    {
        for (var i = 0; i < text.Length; )
        {
            if (char.IsWhiteSpace(text[i]))
            {
                i++;
                continue;
            }
            var from = i++;
            if (text[from] is '<' or '>' or '!' && i < text.Length && text[i] == '=')
                i++;
            else if (text[from] is not ('(' or ')' or '=' or '<' or '>' or '!'))
                while (i < text.Length && !char.IsWhiteSpace(text[i]) && !"()=<>!".Contains(text[i], StringComparison.Ordinal))
                    i++;
            yield return new Token(text[from..i], from);
        }
    }

    /// <summary>Whether a name fits a pattern in which * is any text; in time that is linear in both, whatever they are.</summary>
    private static bool Fits(string name, string pattern)
    {
        var parts = pattern.Split('*');
        if (parts.Length == 1)
            return name == pattern;
        if (!name.StartsWith(parts[0], StringComparison.Ordinal))
            return false;
        var at = parts[0].Length;
        for (var i = 1; i < parts.Length - 1; i++)
        {
            var found = name.IndexOf(parts[i], at, StringComparison.Ordinal);
            if (found < 0)
                return false;
            at = found + parts[i].Length;
        }
        return name.Length - at >= parts[^1].Length && name.EndsWith(parts[^1], StringComparison.Ordinal);
    }
}
