using IronKeep.Core.Dated;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Dated;

/// <summary>A file whose name matches: its path, what the name says, and its attributes.</summary>
public readonly record struct NamedFile(string Path, DatedName Name, FileFacts Facts);

/// <summary>
/// Goes through the folders that a pattern can lead to, without following a link, and tells the files that match it. The rest is counted
/// and otherwise left alone. Errors are <see cref="Places.PlaceException"/>.
/// </summary>
public sealed class DatedWalk(NamePattern pattern, Func<string, DatedName?>? known = null)
{
    private static readonly string[] Companions = [".sha256", ".md5"];

    /// <summary>Entries that are no copies.</summary>
    public long Others { get; private set; }

    /// <summary>Whether there was anything at all.</summary>
    public bool AnyEntry { get; private set; }

    /// <summary>What lies below a folder of the root; "" is the root itself. Paths are from that folder on.</summary>
    public IEnumerable<NamedFile> In(IDatedRoot root, string below = "")
    {
        var open = new Stack<(string Prefix, int Depth)>([("", 0)]);
        while (open.TryPop(out var at))
        {
            if (root.List((below + at.Prefix).TrimEnd('/')) is not { } entries)
            {
                // It went, or became a link, meanwhile.
                Others++;
                continue;
            }
            var names = entries.Select(e => e.Name).OfType<string>().ToHashSet();
            var last = at.Depth == pattern.Depth;
            foreach (var entry in entries)
            {
                // A name that is no text matches nothing.
                if (entry.Name is not { } name)
                {
                    Others++;
                    continue;
                }
                if (at.Depth == 0 && name.StartsWith(DatedStore.Own, StringComparison.Ordinal))
                    continue;
                AnyEntry = true;
                if (last)
                {
                    if (File(names, at.Prefix, name, entry.Facts) is { } found)
                        yield return found;
                }
                else if (pattern.EntersFolder(at.Depth, name) && entry.Facts.Kind == EntryKind.Folder)
                    open.Push(($"{at.Prefix}{name}/", at.Depth + 1));
                else
                    Others++;
            }
        }
    }

    private NamedFile? File(HashSet<string> names, string prefix, string name, FileFacts facts)
    {
        var path = prefix + name;
        var isCompanion = IsCompanion(names, prefix, name);
        if (!isCompanion && facts.Kind == EntryKind.File && (known?.Invoke(path) ?? pattern.Match(path)) is { } says)
            return new NamedFile(path, says, facts);
        if (!isCompanion)
            Others++;
        return null;
    }

    /// <summary>Whether it only says something of a file beside it.</summary>
    private bool IsCompanion(HashSet<string> names, string prefix, string name) =>
        Array.Exists(Companions, ending =>
            name.EndsWith(ending, StringComparison.Ordinal)
            && names.Contains(name[..^ending.Length])
            && pattern.Match(prefix + name[..^ending.Length]) is not null
        );
}
