using System.Text;

namespace IronKeep.Stores.Exports;

/// <summary>A line of a list of sums.</summary>
internal static class SumLine
{
    /// <summary>
    /// The line as sha256sum writes and reads it: a name with a line end or a backslash in it is escaped, and the line begins with a
    /// backslash.
    /// </summary>
    public static byte[] Of(ReadOnlySpan<byte> hash, ReadOnlySpan<byte> path)
    {
        var odd = path.IndexOfAny((byte)'\n', (byte)'\r', (byte)'\\') >= 0;
        var line = new List<byte>(Encoding.ASCII.GetBytes($"{(odd ? "\\" : "")}{Convert.ToHexStringLower(hash)}  "));
        foreach (var b in path)
        {
            if (b == (byte)'\n')
                line.AddRange("\\n"u8);
            else if (b == (byte)'\r')
                line.AddRange("\\r"u8);
            else if (b == (byte)'\\')
                line.AddRange("\\\\"u8);
            else
                line.Add(b);
        }
        line.Add((byte)'\n');
        return [.. line];
    }
}
