using System.Text;
using System.Text.RegularExpressions;

namespace IronKeep.Core.Watching.Logs;

/// <summary>
/// One pattern of a rule: text to be found anywhere in a line, or a regular expression between slashes. Matching takes time linear in the
/// line. Source: docs/semantics.md, section 9 (Rules for logs).
/// </summary>
public sealed class LogPattern
{
    /// <summary>Of a line, so many characters are looked at; what is behind them is not.</summary>
    public const int MostOfLine = 64 * 1024;

    private readonly Regex? regex;
    private readonly StringComparison comparison;

    private LogPattern(string source, Regex? regex, string? literal, bool ignoresCase)
    {
        (Source, this.regex, Literal) = (source, regex, literal);
        comparison = ignoresCase ? StringComparison.OrdinalIgnoreCase : StringComparison.Ordinal;
        Names = regex is null ? [] : [.. regex.GetGroupNames().Where(n => !char.IsAsciiDigit(n[0]))];
    }

    /// <summary>As it is written in the charter.</summary>
    public string Source { get; }

    /// <summary>A piece of text, without white space, that every line it matches contains; null when there is none to be told.</summary>
    public string? Literal { get; }

    /// <summary>The values that it reads.</summary>
    public IReadOnlyList<string> Names { get; }

    /// <summary>The expression that says the same, for lines that no literal can find; null for plain text.</summary>
    internal Regex? Expression => regex;

    /// <summary>Reads a pattern; exactly one of the answers is null.</summary>
    public static (LogPattern? Pattern, string? Problem) Read(string source, LogTimes times)
    {
        if (source.Trim().Length == 0)
            return (null, "an empty pattern would match every line; write the text to be found");
        return source.Length >= 2 && source[0] == '/' && source[^1] == '/' ? ReadExpression(source) : ReadText(source, times);
    }

    public bool IsMatch(ReadOnlySpan<char> line) =>
        (Literal is null || line.Contains(Literal, comparison)) && (regex is null || regex.IsMatch(line));

    /// <summary>The values that it reads from a line that it matches, by name.</summary>
    public IEnumerable<(string Name, string Text)> ValuesOf(string line)
    {
        if (regex is null || Names.Count == 0 || regex.Match(line) is not { Success: true } match)
            yield break;
        foreach (var name in Names)
            if (match.Groups[name] is { Success: true } group)
                yield return (name, group.Value);
    }

    private static (LogPattern?, string?) ReadExpression(string source)
    {
        var text = source[1..^1];
        if (text.Length == 0)
            return (null, "an empty expression would match every line; write what is to be found between the slashes");
        var (regex, problem) = Make(text, RegexOptions.None);
        if (regex is null)
            return (null, problem);
        if (regex.IsMatch("") && regex.IsMatch("x 1"))
            return (null, $"{source} matches every line; tie it to some text");
        return NeverMatches(text)
            ? (null, $"{source} can match no line: something is to stand before its begin or behind its end")
            : (new LogPattern(source, regex, ExpressionLiteral.Of(text), ignoresCase: false), null);
    }

    private static (Regex?, string?) Make(string text, RegexOptions more)
    {
        try
        {
            return (new Regex(text, RegexOptions.NonBacktracking | RegexOptions.CultureInvariant | more), null);
        }
        catch (NotSupportedException)
        {
            return (
                null,
                $"'{text}' is too large, or needs to look back (groups named again, lookarounds, atomic groups); such expressions can take "
                    + $"for ever on one line. Write it without them"
            );
        }
        catch (ArgumentException e)
        {
            return (null, $"'{text}' is no regular expression: {e.Message}");
        }
    }

    /// <summary>Something behind an end, or before a begin, that is no alternative.</summary>
    private static bool NeverMatches(string text)
    {
        for (var i = 0; i < text.Length; i++)
        {
            if (text[i] == '\\')
                i++;
            else if (text[i] == '[')
                i = Math.Max(i, text.IndexOf(']', i + 1));
            else if (text[i] == '$' && i + 1 < text.Length && char.IsLetterOrDigit(text[i + 1]))
                return true;
            else if (text[i] == '^' && i > 0 && char.IsLetterOrDigit(text[i - 1]) && (i < 2 || text[i - 2] != '\\'))
                return true;
        }
        return false;
    }

    private static (LogPattern?, string?) ReadText(string source, LogTimes times)
    {
        var (parts, problem) = TextParts.Read(source);
        if (parts is null)
            return (null, problem);
        var literal = parts.Where(p => p.Kind == PartKind.Text).Select(p => p.Text).MaxBy(t => t.Length);
        if (literal is null && !parts.Exists(p => p.Kind == PartKind.Value))
            return (null, $"'{source}' matches every line; write some text to be found");
        if (
            parts.TrueForAll(p =>
                p.Kind is PartKind.Any or PartKind.Begin or PartKind.End || (p.Kind == PartKind.Value && !LogValues.IsKnown(p.Text))
            )
        )
            return (null, $"'{source}' matches every line; write some text to be found beside the value");
        if (parts is [{ Kind: PartKind.Text }])
            return (new LogPattern(source, null, literal, ignoresCase: true), null);
        var text = new StringBuilder();
        for (var i = 0; i < parts.Count; i++)
            Append(text, parts, i, times);
        var (regex, wrong) = Make(text.ToString(), RegexOptions.IgnoreCase);
        return regex is null ? (null, wrong) : (new LogPattern(source, regex, literal, ignoresCase: true), null);
    }

    private static void Append(StringBuilder text, List<TextPart> parts, int i, LogTimes times)
    {
        var part = parts[i];
        switch (part.Kind)
        {
            case PartKind.Begin:
                text.Append('^');
                break;
            case PartKind.End:
                text.Append('$');
                break;
            case PartKind.Any:
                text.Append(".*");
                break;
            case PartKind.Space:
                text.Append(@"\s+");
                break;
            case PartKind.Text:
                text.Append(Regex.Escape(part.Text));
                break;
            default:
                // A number must not be the tail or the head of a longer one, where no text of the pattern says where it begins or ends.
                var (open, ends) = (i == 0 || parts[i - 1].Kind == PartKind.Any, i == parts.Count - 1 || parts[i + 1].Kind == PartKind.Any);
                if (LogValues.PatternOf(part.Text, times) is { } value)
                    text.Append(open ? value.Before : "").Append($"(?<{part.Text}>{value.Text})").Append(ends ? value.After : "");
                else
                    text.Append($"(?<{part.Text}>{(i == parts.Count - 1 ? ".*" : ".*?")})");
                break;
        }
    }
}

internal enum PartKind
{
    Text,
    Space,
    Any,
    Value,
    Begin,
    End,
}

internal sealed record TextPart(PartKind Kind, string Text);

/// <summary>Takes a text pattern apart: text, white space, '*', '{name}', and '^' and '$' at its ends.</summary>
internal static class TextParts
{
    public static (List<TextPart>? Parts, string? Problem) Read(string source)
    {
        var parts = new List<TextPart>();
        var text = new StringBuilder();
        var names = new HashSet<string>();
        var at = 0;
        if (source[0] == '^')
        {
            parts.Add(new TextPart(PartKind.Begin, ""));
            at = 1;
        }
        for (; at < source.Length; at++)
        {
            var c = source[at];
            if (c == '\\')
            {
                if (++at == source.Length)
                    return (null, $"'{source}' ends with a backslash, which takes the next character as it is; write two for one");
                text.Append(source[at]);
            }
            else if (c == '*')
                Add(PartKind.Any);
            else if (c == '$' && at == source.Length - 1)
                Add(PartKind.End);
            else if (char.IsWhiteSpace(c))
                Add(PartKind.Space);
            else if (c == '{')
            {
                var end = source.IndexOf('}', at);
                if (end < 0)
                    return (null, $"'{source}' has a '{{' that nothing closes; write '\\{{' for the character itself");
                var name = source[(at + 1)..end];
                if (
                    name.Length == 0
                    || !char.IsAsciiLetterLower(name[0])
                    || !name.All(l => char.IsAsciiLetterLower(l) || char.IsAsciiDigit(l) || l == '_')
                )
                    return (
                        null,
                        $"'{{{name}}}' is not a name of a value; use lower-case letters, such as {{items}}, or write '\\{{' for the "
                            + $"character itself"
                    );
                if (!names.Add(name))
                    return (null, $"'{{{name}}}' stands twice in '{source}'; a pattern reads a value once");
                Flush();
                if (parts is [.., { Kind: PartKind.Value }])
                    return (null, $"in '{source}' two values touch each other; write the text that stands between them");
                parts.Add(new TextPart(PartKind.Value, name));
                at = end;
            }
            else
                text.Append(c);
        }
        Flush();
        return (parts, null);

        void Add(PartKind kind)
        {
            Flush();
            if (parts is [.., { } last] && last.Kind == kind)
                return;
            parts.Add(new TextPart(kind, ""));
        }

        void Flush()
        {
            if (text.Length == 0)
                return;
            parts.Add(new TextPart(PartKind.Text, text.ToString()));
            text.Clear();
        }
    }
}

/// <summary>Finds a text that every match of a regular expression contains, as far as it can be told at a glance.</summary>
internal static class ExpressionLiteral
{
    public static string? Of(string expression)
    {
        // Options and alternatives can make every text dispensable.
        if (expression.Contains("(?", StringComparison.Ordinal) && expression.Contains("(?i", StringComparison.Ordinal))
            return null;
        var best = "";
        var run = new StringBuilder();
        var depth = 0;
        for (var i = 0; i < expression.Length; i++)
        {
            var c = expression[i];
            if (c == '|' && depth == 0)
                return null;
            if (c == '(')
                depth++;
            else if (c == ')')
                depth--;
            var plain =
                depth == 0
                && (
                    char.IsLetterOrDigit(c)
                    || c
                        is ' '
                            or '_'
                            or '-'
                            or ':'
                            or '='
                            or '/'
                            or ','
                            or '%'
                            or '@'
                            or '"'
                            or '\''
                            or '<'
                            or '>'
                            or '!'
                            or '&'
                            or ';'
                            or '#'
                            or '~'
                );
            if (c == '\\' && i + 1 < expression.Length && depth == 0 && char.IsPunctuation(expression[i + 1]))
            {
                c = expression[++i];
                plain = true;
            }
            else if (c == '\\')
                i++;
            else if (c == '[')
                i = Math.Max(i, expression.IndexOf(']', Math.Min(i + 2, expression.Length)));
            var next = i + 1 < expression.Length ? expression[i + 1] : '\0';
            // What may be left out, or counts only together with what follows, is no text that must be there.
            if (plain && next is not ('?' or '*' or '{'))
                run.Append(c);
            if (!plain || next is '?' or '*' or '{' or '+' || i + 1 >= expression.Length)
            {
                if (run.Length > best.Length)
                    best = run.ToString();
                run.Clear();
            }
        }
        if (run.Length > best.Length)
            best = run.ToString();
        return best.Length == 0 ? null : best;
    }
}
