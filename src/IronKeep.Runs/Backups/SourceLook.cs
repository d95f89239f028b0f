using System.Text;
using IronKeep.Stores.Posix;

namespace IronKeep.Runs.Backups;

/// <summary>What paths hold, less what is left out: items, bytes, and whether all of it was seen in the time given.</summary>
public sealed record SourceSize(long Items, long Bytes, bool Whole);

/// <summary>Looks what a job would take, by the rules by which a run takes it, without reading a file.</summary>
public static class SourceLook
{
    /// <summary>
    /// The sum over the given paths; stops when the time is over, or when so many bytes are found. What cannot be read is passed over, as a
    /// run does it with a warning. Null when a path does not exist.
    /// </summary>
    public static SourceSize? Of(
        IEnumerable<string> takes,
        IEnumerable<string> leavesOut,
        bool allFileSystems,
        TimeSpan patience,
        long enough = long.MaxValue
    )
    {
        var watch = System.Diagnostics.Stopwatch.StartNew();
        var rules = new LeaveOuts(leavesOut);
        long items = 0,
            bytes = 0;
        foreach (var take in takes)
        {
            if (RealPaths.Of(take) is not { } real)
                return null;
            if (!Directory.Exists(real))
            {
                items++;
                bytes += new FileInfo(real).Length;
                continue;
            }
            var open = new Stack<(string Path, string Relative, ulong? Device)>([(real, "", null)]);
            while (open.TryPop(out var at))
            {
                if (watch.Elapsed > patience || bytes >= enough)
                    return new SourceSize(items, bytes, false);
                try
                {
                    using var folder = OpenFolder.AtPath(at.Path);
                    var device = at.Device ?? folder.Facts().Device;
                    if (!allFileSystems && folder.Facts().Device != device)
                        continue;
                    var names = folder.List();
                    for (var i = 0; i < names.Count; i++)
                    {
                        if (!folder.FactsOfTerminated(names.Terminated(i), out var facts))
                            continue;
                        var name = Encoding.UTF8.GetString(names[i]);
                        var relative = at.Relative.Length == 0 ? name : $"{at.Relative}/{name}";
                        if (rules.Any && rules.Matches(relative, facts.Kind == EntryKind.Folder))
                            continue;
                        if (facts.Kind == EntryKind.Folder)
                        {
                            open.Push(($"{at.Path.TrimEnd('/')}/{name}", relative, device));
                            continue;
                        }
                        items++;
                        bytes += facts.Kind == EntryKind.File ? facts.Size : 0;
                    }
                }
                catch (PosixException)
                {
                    // The run names it.
                }
            }
        }
        return new SourceSize(items, bytes, true);
    }
}
