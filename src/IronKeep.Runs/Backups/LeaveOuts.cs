using System.Collections.Immutable;
using System.Text;
using System.Text.RegularExpressions;

namespace IronKeep.Runs.Backups;

/// <summary>
/// Decides what a job leaves out, in the pattern syntax of <c>.gitignore</c>: <c>*</c> and <c>?</c> within a name, <c>**</c> over
/// folders, <c>[a-z]</c>, a leading or inner <c>/</c> ties to the taken folder, a trailing <c>/</c> means folders only, <c>!</c> takes back
/// in; the last matching pattern decides, and nothing below a left-out folder comes back.
/// </summary>
public sealed class LeaveOuts
{
    private readonly ImmutableArray<Rule> rules;

    public LeaveOuts(IEnumerable<string> patterns) => rules = [.. patterns.Select(Compile).OfType<Rule>()];

    /// <summary>Whether there is any pattern.</summary>
    public bool Any => rules.Length > 0;

    /// <summary>Whether the entry at a path relative to the taken folder ("cache/old.tmp") is left out.</summary>
    public bool Matches(string relativePath, bool folder)
    {
        for (var i = rules.Length - 1; i >= 0; i--)
        {
            var rule = rules[i];
            if (rule.FoldersOnly && !folder)
                continue;
            if (rule.Pattern.IsMatch(relativePath))
                return !rule.TakesBack;
        }
        return false;
    }

    private sealed record Rule(Regex Pattern, bool FoldersOnly, bool TakesBack);

    private static Rule? Compile(string text)
    {
        var takesBack = text.StartsWith('!');
        var pattern = takesBack ? text[1..] : text;
        var foldersOnly = pattern.EndsWith('/');
        pattern = pattern.TrimEnd('/');
        var tied = pattern.Contains('/');
        pattern = pattern.TrimStart('/');
        if (pattern.Length == 0)
            return null;
        var regex = new StringBuilder(tied ? "^" : "^(?:.*/)?");
        for (var i = 0; i < pattern.Length; i++)
        {
            var c = pattern[i];
            if (c == '*' && i + 1 < pattern.Length && pattern[i + 1] == '*')
            {
                var slashBefore = i == 0 || pattern[i - 1] == '/';
                var slashAfter = i + 2 < pattern.Length && pattern[i + 2] == '/';
                if (slashBefore && slashAfter)
                {
                    regex.Append("(?:.*/)?");
                    i += 2;
                }
                else if (slashBefore && i + 2 == pattern.Length)
                {
                    regex.Append(".*");
                    i++;
                }
                else
                {
                    // Not alone between slashes it is no more than a single one.
                    regex.Append("[^/]*");
                    i++;
                }
            }
            else if (c == '*')
                regex.Append("[^/]*");
            else if (c == '?')
                regex.Append("[^/]");
            else if (c == '[' && pattern.IndexOf(']', i + 2) is var end and > 0)
            {
                var set = pattern[(i + 1)..end]
                    .Replace("\\", "\\\\", StringComparison.Ordinal)
                    .Replace("[", "\\[", StringComparison.Ordinal);
                regex.Append('[').Append(set.StartsWith('!') ? "^" + set[1..] : set).Append(']');
                i = end;
            }
            else if (c == '\\' && i + 1 < pattern.Length)
                regex.Append(Regex.Escape(pattern[++i].ToString()));
            else
                regex.Append(Regex.Escape(c.ToString()));
        }
        regex.Append('$');
        // Matching in linear time whatever the pattern: a job's patterns must not be able to hang a run.
        return new Rule(
            new Regex(regex.ToString(), RegexOptions.NonBacktracking | RegexOptions.Singleline | RegexOptions.CultureInvariant),
            foldersOnly,
            takesBack
        );
    }
}
