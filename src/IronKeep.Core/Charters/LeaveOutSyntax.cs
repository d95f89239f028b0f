namespace IronKeep.Core.Charters;

/// <summary>What a leave-out pattern may look like; the matching itself is done where files are walked.</summary>
public static class LeaveOutSyntax
{
    /// <summary>A sentence when the pattern can never match or cannot be read, else null.</summary>
    public static string? Problem(string pattern)
    {
        var text = pattern.TrimStart('!').Trim();
        if (text.Length == 0 || text == "/") return $"the pattern '{pattern}' matches nothing; write a name such as '*.tmp' or 'cache/'";
        if (text.StartsWith('#')) return $"the pattern '{pattern}' reads as a comment; write '\\#' for a name that begins with '#'";
        var open = text.Replace("\\[", "").IndexOf('[', StringComparison.Ordinal);
        if (open >= 0 && !text[(open + 1)..].Contains(']')) return $"the pattern '{pattern}' has a '[' without its ']'; close it or write '\\['";
        return null;
    }
}
