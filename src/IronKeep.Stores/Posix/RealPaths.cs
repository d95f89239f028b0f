using System.Runtime.InteropServices;

namespace IronKeep.Stores.Posix;

/// <summary>Where paths really lead, links resolved.</summary>
public static class RealPaths
{
    /// <summary>The path with all links resolved, or null when it does not exist.</summary>
    public static string? Of(string path)
    {
        var result = Native.RealPath(path, 0);
        if (result == 0) return null;
        var text = Marshal.PtrToStringUTF8(result);
        Native.Free(result);
        return text;
    }

    /// <summary>The path with links resolved as far as it exists; the rest is appended as written.</summary>
    public static string OfExistingPart(string path)
    {
        var rest = "";
        for (var at = path.TrimEnd('/'); at.Length > 0; at = at[..at.LastIndexOf('/')])
        {
            if (Of(at) is { } real) return real.TrimEnd('/') + rest;
            rest = at[at.LastIndexOf('/')..] + rest;
        }
        return rest.Length == 0 ? "/" : rest;
    }

    /// <summary>Whether <paramref name="inner"/> is <paramref name="outer"/> or lies below it; "/a/bc" does not lie below "/a/b".</summary>
    public static bool Contains(string outer, string inner)
    {
        var prefix = outer.TrimEnd('/') + "/";
        return (inner.TrimEnd('/') + "/").StartsWith(prefix, StringComparison.Ordinal);
    }
}
