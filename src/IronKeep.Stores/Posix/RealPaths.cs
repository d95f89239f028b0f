using System.Runtime.InteropServices;

namespace IronKeep.Stores.Posix;

/// <summary>Where paths really lead, links resolved.</summary>
public static class RealPaths
{
    /// <summary>The path with all links resolved, or null when it does not exist.</summary>
    public static string? Of(string path)
    {
        var result = Native.RealPath(path, 0);
        if (result == 0)
            return null;
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
            if (Of(at) is { } real)
                return real.TrimEnd('/') + rest;
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

    /// <summary>
    /// Why nothing could be written below a path, asked of its nearest part that exists; null when it could. The path itself is not
    /// touched.
    /// </summary>
    public static string? WhyNotWritable(string path)
    {
        const int write = 2,
            search = 1,
            readOnly = 30;
        var at = path;
        while (at.Length > 1 && !Path.Exists(at))
            at = Path.GetDirectoryName(at) ?? "/";
        if (!Directory.Exists(at))
            return $"{at} is not a folder";
        if (Native.Access(at, write | search) == 0)
            return null;
        return System.Runtime.InteropServices.Marshal.GetLastPInvokeError() == readOnly
            ? $"{at} is mounted read-only"
            : $"the service may not write to {at}";
    }
}
