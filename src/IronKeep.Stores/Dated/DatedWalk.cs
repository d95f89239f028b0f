using System.Text;
using System.Text.Unicode;
using IronKeep.Core.Dated;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Dated;

/// <summary>A file whose name matches: its path, what the name says, and its attributes.</summary>
public readonly record struct NamedFile(string Path, DatedName Name, FileFacts Facts);

/// <summary>
/// Goes through the folders that a pattern can lead to, without following a link, and tells the files that match it. The rest is counted
/// and otherwise left alone. Errors are <see cref="PosixException"/>.
/// </summary>
public sealed class DatedWalk(NamePattern pattern, Func<string, DatedName?>? known = null)
{
    private static readonly string[] Companions = [".sha256", ".md5"];

    /// <summary>Entries that are no copies.</summary>
    public long Others { get; private set; }

    /// <summary>Whether there was anything at all.</summary>
    public bool AnyEntry { get; private set; }

    public IEnumerable<NamedFile> In(OpenFolder root)
    {
        foreach (var file in Level(root, "", 0))
            yield return file;
    }

    private IEnumerable<NamedFile> Level(OpenFolder folder, string prefix, int depth)
    {
        var names = folder.List();
        var last = depth == pattern.Depth;
        for (var i = 0; i < names.Count; i++)
        {
            // A name that is no text matches nothing.
            if (Text(names, i) is not { } name)
            {
                Others++;
                continue;
            }
            if (depth == 0 && name.StartsWith(DatedStore.Own, StringComparison.Ordinal))
                continue;
            AnyEntry = true;
            if (last)
            {
                if (File(folder, names, i, prefix, name) is { } found)
                    yield return found;
                continue;
            }
            if (!pattern.EntersFolder(depth, name) || Enter(folder, names, i) is not { } inner)
            {
                Others++;
                continue;
            }
            using (inner)
                foreach (var file in Level(inner, $"{prefix}{name}/", depth + 1))
                    yield return file;
        }
    }

    private NamedFile? File(OpenFolder folder, NameList names, int i, string prefix, string name)
    {
        var path = prefix + name;
        var says = known?.Invoke(path) ?? pattern.Match(path);
        if (
            says is null
            || !folder.FactsOfTerminated(names.Terminated(i), out var facts)
            || facts.Kind != EntryKind.File
            || IsCompanion(folder, prefix, name)
        )
        {
            if (!IsCompanion(folder, prefix, name))
                Others++;
            return null;
        }
        return new NamedFile(path, says, facts);
    }

    /// <summary>Whether it only says something of a file beside it.</summary>
    private bool IsCompanion(OpenFolder folder, string prefix, string name)
    {
        foreach (var ending in Companions)
            if (
                name.EndsWith(ending, StringComparison.Ordinal)
                && pattern.Match(prefix + name[..^ending.Length]) is not null
                && folder.Facts(Encoding.UTF8.GetBytes(name[..^ending.Length])) is not null
            )
                return true;
        return false;
    }

    private static string? Text(NameList names, int i) => Utf8.IsValid(names[i]) ? Encoding.UTF8.GetString(names[i]) : null;

    private static OpenFolder? Enter(OpenFolder folder, NameList names, int i)
    {
        if (!folder.FactsOfTerminated(names.Terminated(i), out var facts) || facts.Kind != EntryKind.Folder)
            return null;
        try
        {
            return folder.Enter(names[i]);
        }
        catch (PosixException e) when (e.NotFound || e.Error == 40)
        {
            // It went, or became a link, meanwhile.
            return null;
        }
    }
}
