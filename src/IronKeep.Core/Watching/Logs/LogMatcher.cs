using System.Buffers;
using System.Text.RegularExpressions;

namespace IronKeep.Core.Watching.Logs;

/// <summary>
/// All patterns of a set of rules at once: finds in a stretch of text the next line that any of them may match, without looking at each line for
/// each. Safe for several threads.
/// </summary>
internal sealed class LogMatcher
{
    private readonly SearchValues<string>? literals;
    private readonly Regex[] always;

    public LogMatcher(IEnumerable<LogPattern> patterns)
    {
        var all = patterns.ToList();
        var known = all.Select(p => p.Literal).OfType<string>().Distinct(StringComparer.OrdinalIgnoreCase).ToArray();
        literals = known.Length == 0 ? null : SearchValues.Create(known, StringComparison.OrdinalIgnoreCase);
        always = Join([.. all.Where(p => p.Literal is null).Select(p => p.Expression!)]);
    }

    /// <summary>Where in a stretch the next line may be that a pattern matches; at or behind the end when there is none.</summary>
    public int NextIn(ReadOnlySpan<char> text)
    {
        if (always.Length > 0) return 0;
        return literals is null || text.IndexOfAny(literals) is not (>= 0 and var at) ? text.Length : at;
    }

    /// <summary>Whether a single line may be matched.</summary>
    public bool MayMatch(ReadOnlySpan<char> line)
    {
        if (literals is not null && line.ContainsAny(literals)) return true;
        foreach (var one in always)
            if (one.IsMatch(line)) return true;
        return false;
    }

    /// <summary>Expressions that no text can find, as one where that can be: lines are then looked at once for all of them.</summary>
    private static Regex[] Join(Regex[] expressions)
    {
        if (expressions.Length < 2) return expressions;
        try
        {
            // Letters count as in most of them; too much found is sorted out by each one.
            return [new Regex(string.Join('|', expressions.Select(e => $"(?:{e})")), RegexOptions.NonBacktracking | RegexOptions.CultureInvariant | RegexOptions.IgnoreCase | RegexOptions.ExplicitCapture)];
        }
        catch (Exception e) when (e is NotSupportedException or ArgumentException)
        {
            return expressions;
        }
    }
}
