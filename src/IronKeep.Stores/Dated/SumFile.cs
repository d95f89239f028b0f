using System.Buffers;
using System.Text;
using IronKeep.Stores.Places;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Dated;

/// <summary>
/// The sums that lie beside files, in the form that sha256sum(1) writes: SHA256SUMS for a folder, NAME.sha256 for one file. Lines in
/// another form say nothing; a sum file over 64 MiB says nothing at all.
/// </summary>
internal sealed class SumFiles(IDatedRoot root)
{
    private const string Sums = "SHA256SUMS",
        Ending = ".sha256";
    private const int MostBytes = 64 * 1024 * 1024,
        HexLength = 64;
    private static readonly SearchValues<char> HexDigits = SearchValues.Create("0123456789abcdefABCDEF");
    private readonly Dictionary<string, Dictionary<string, string>> read = [];

    /// <summary>The sums that are said of a file, with the file that says so.</summary>
    public IEnumerable<(string Sum, string Where)> Of(string path)
    {
        var slash = path.LastIndexOf('/');
        var (folder, name) = (path[..(slash + 1)], path[(slash + 1)..]);
        // That of its own folder, or of one above, which names it by its path from there.
        for (var above = folder; ; above = above[..(above.TrimEnd('/').LastIndexOf('/') + 1)])
        {
            if (Read(above + Sums).TryGetValue(path[above.Length..], out var sum))
                yield return (sum, above + Sums);
            if (above.Length == 0)
                break;
        }
        // Written in another folder, it names the file by another path.
        if (Read(path + Ending) is { Count: > 0 } own)
            yield return (own.GetValueOrDefault(name) ?? own.Values.First(), path + Ending);
    }

    private Dictionary<string, string> Read(string file)
    {
        if (read.TryGetValue(file, out var known))
            return known;
        var sums = new Dictionary<string, string>();
        foreach (var line in Lines(file))
            if (Parse(line) is var (name, sum))
                sums[name] = sum;
        // Those of one file are asked for once.
        return file.EndsWith(Ending, StringComparison.Ordinal) ? sums : read[file] = sums;
    }

    private string[] Lines(string file)
    {
        try
        {
            if (root.Facts(file) is not { Kind: EntryKind.File, Size: <= MostBytes } facts)
                return [];
            using var opened = root.OpenFile(file);
            var bytes = new byte[facts.Size];
            return Encoding.UTF8.GetString(bytes, 0, opened.Read(bytes, 0)).Split('\n');
        }
        catch (PlaceException e) when (e.Fault != PlaceFault.Unreachable)
        {
            return [];
        }
    }

    private static (string Name, string Sum)? Parse(string text)
    {
        var line = text.TrimEnd('\r');
        var escaped = line.StartsWith('\\');
        if (escaped)
            line = line[1..];
        if (line.Length < HexLength || line.AsSpan(0, HexLength).ContainsAnyExcept(HexDigits))
            return null;
        var name = line[HexLength..].TrimStart(' ');
        if (name.StartsWith('*'))
            name = name[1..];
        if (name.StartsWith("./", StringComparison.Ordinal))
            name = name[2..];
        if (escaped)
            name = name.Replace("\\n", "\n", StringComparison.Ordinal).Replace("\\\\", "\\", StringComparison.Ordinal);
        return (name, line[..HexLength].ToLowerInvariant());
    }
}
