using System.Buffers;
using System.Text;
using System.Text.RegularExpressions;

namespace IronKeep.Core.Watching.Logs;

/// <summary>
/// All patterns of a set of rules at once: finds in a stretch of whole lines the next place where any of them may match, without looking at
/// each line for each. What it finds may turn out to match nothing; what matches it never leaves out. Safe for several threads.
/// </summary>
internal sealed class LogMatcher
{
    /// <summary>A text that is shorter is found in too many lines to be of use.</summary>
    private const int ShortestLiteral = 3;
    private readonly SearchValues<string>? literals;
    private readonly Regex[] others;

    public LogMatcher(IEnumerable<LogPattern> patterns)
    {
        var all = patterns.ToList();
        var known = all.Where(IsFoundByText).Select(p => p.Literal!).Distinct(StringComparer.OrdinalIgnoreCase).ToArray();
        literals = known.Length == 0 ? null : SearchValues.Create(known, StringComparison.OrdinalIgnoreCase);
        others = [.. all.Where(p => !IsFoundByText(p)).Select(InLines)];
    }

    /// <summary>How many places a search remembers.</summary>
    public int Searches => others.Length + 1;

    private static bool IsFoundByText(LogPattern pattern) => pattern.Literal?.Length >= ShortestLiteral;

    /// <summary>The same expression for a text of many lines.</summary>
    private static Regex InLines(LogPattern pattern)
    {
        var expression = pattern.Expression;
        var source = expression?.ToString() ?? Regex.Escape(pattern.Literal!);
        var text = new StringBuilder();
        var inSet = false;
        foreach (var (i, c) in source.Index())
        {
            var escaped = IsEscaped(source, i);
            if (c == '[' && !escaped)
                inSet = true;
            else if (c == ']' && !escaped)
                inSet = false;
            // A line may end with a carriage return, which is taken off before it is matched.
            text.Append(c == '$' && !escaped && !inSet ? "\\r?$" : c.ToString());
        }
        var options =
            (expression?.Options ?? RegexOptions.IgnoreCase)
            | RegexOptions.NonBacktracking
            | RegexOptions.CultureInvariant
            | RegexOptions.Multiline;
        return new Regex(text.ToString(), options);
    }

    private static bool IsEscaped(string text, int at)
    {
        var slashes = 0;
        while (at - slashes > 0 && text[at - slashes - 1] == '\\')
            slashes++;
        return slashes % 2 == 1;
    }

    /// <summary>
    /// Where from a line's begin on the next place is; the length of the text when there is none. <paramref name="known"/> remembers what
    /// each search found (−1 at first), so that none goes over the same text twice.
    /// </summary>
    public int NextIn(ReadOnlySpan<char> text, int from, Span<int> known)
    {
        if (known[0] < from)
            known[0] = literals is not null && text[from..].IndexOfAny(literals) is >= 0 and var at ? from + at : text.Length;
        var next = known[0];
        for (var i = 0; i < others.Length; i++)
        {
            if (known[i + 1] < from)
            {
                var found = others[i].EnumerateMatches(text[from..]);
                known[i + 1] = found.MoveNext() ? from + found.Current.Index : text.Length;
            }
            next = Math.Min(next, known[i + 1]);
        }
        return next;
    }
}
