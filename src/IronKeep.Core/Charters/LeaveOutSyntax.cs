namespace IronKeep.Core.Charters;

/// <summary>What a leave-out pattern may look like; the matching itself is done where files are walked.</summary>
public static class LeaveOutSyntax
{
    /// <summary>A sentence when the pattern can never match or cannot be read, else null.</summary>
    public static string? Problem(string pattern)
    {
        var text = pattern.TrimStart('!').Trim();
        if (text.Length == 0 || text == "/")
            return $"the pattern '{pattern}' matches nothing; write a name such as '*.tmp' or 'cache/'";
        if (text.StartsWith('#'))
            return $"the pattern '{pattern}' reads as a comment; write '\\#' for a name that begins with '#'";
        var open = text.Replace("\\[", "").IndexOf('[', StringComparison.Ordinal);
        if (open >= 0 && !text[(open + 1)..].Contains(']'))
            return $"the pattern '{pattern}' has a '[' without its ']'; close it or write '\\['";
        return Classes(text) is { } bad ? $"the pattern '{pattern}' has {bad}; write '\\[' for the letter itself" : null;
    }

    /// <summary>A class between brackets that says nothing, or takes one class from another, which is another language's.</summary>
    private static string? Classes(string text)
    {
        for (var i = 0; i < text.Length; i++)
        {
            if (text[i] == '\\')
            {
                i++;
                continue;
            }
            if (text[i] != '[')
                continue;
            var end = text.IndexOf(']', Math.Min(i + 2, text.Length - 1));
            if (end < i + 2)
                return "an empty '[]'";
            var inside = text[(i + 1)..end];
            if (inside is "!" or "^")
                return $"a '[{inside}]' that says no letter";
            if (inside.Contains('[', StringComparison.Ordinal))
                return $"a '[' inside '[{inside}]'";
            for (var c = 1; c + 1 < inside.Length; c++)
                if (inside[c] == '-' && inside[c - 1] > inside[c + 1])
                    return $"a range '{inside[(c - 1)..(c + 2)]}' that runs backwards";
            i = end;
        }
        return null;
    }
}
