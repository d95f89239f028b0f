using System.Collections.Immutable;
using System.Diagnostics;
using IronKeep.Stores.Posix;
using IronKeep.Stores.Sessions;
using IronKeep.Stores.Trees;

namespace IronKeep.Stores.Pooled;

/// <summary>How an entry of a later copy differs from that of an earlier one.</summary>
public enum EntryChange
{
    Added,
    Removed,

    /// <summary>Its content; of a folder, something below it.</summary>
    Changed,

    /// <summary>Its owner, mode, time or named attributes alone.</summary>
    Attributes,
}

/// <summary>
/// How many entries differ, folders counted by what is in them and by themselves where they came or went, and the bytes of what came, of
/// what went, and of changed files as they are afterwards. <see cref="Unreadable"/>: folders whose listing is damaged.
/// </summary>
public sealed record DifferenceSums
{
    public long Added { get; set; }
    public long Removed { get; set; }
    public long Changed { get; set; }
    public long Attributes { get; set; }
    public long AddedBytes { get; set; }
    public long RemovedBytes { get; set; }
    public long ChangedBytes { get; set; }
    public long Unreadable { get; set; }

    public bool IsNothing => Added + Removed + Changed + Attributes + Unreadable == 0;

    internal void Add(DifferenceSums other)
    {
        Added += other.Added;
        Removed += other.Removed;
        Changed += other.Changed;
        Attributes += other.Attributes;
        AddedBytes += other.AddedBytes;
        RemovedBytes += other.RemovedBytes;
        ChangedBytes += other.ChangedBytes;
        Unreadable += other.Unreadable;
    }
}

/// <summary>An entry that differs: as it was (null: not there), as it is (null: gone), and what differs in it and below it.</summary>
public sealed record EntryDifference(EntryChange Change, TreeEntry? Before, TreeEntry? After, DifferenceSums Sums);

/// <summary>
/// What differs in a folder, by name; the sums are those of all of it. Complete is false when time or the limit of entries was over.
/// </summary>
public sealed record FolderDifferences(ImmutableArray<EntryDifference> Entries, DifferenceSums Sums, bool Complete);

/// <summary>
/// Compares two copies of one store. What is the same has the same identities there, so a folder that did not change is never read. Goes
/// down without calling itself, because a tree may be tens of thousands of folders deep. Not for several threads.
/// </summary>
public sealed class TreeCompare(ITreeSource store, int most, TimeSpan patience, CancellationToken cancel)
{
    private readonly Stopwatch watch = Stopwatch.StartNew();
    private bool complete = true;

    /// <summary>
    /// The differences of a folder that is in both copies, or in one of them (the other entry is null then). Damage of the folder's own
    /// listings is thrown; that of folders below is counted.
    /// </summary>
    public FolderDifferences Folder(TreeEntry? before, TreeEntry? after)
    {
        var found = ImmutableArray.CreateBuilder<EntryDifference>();
        var all = new DifferenceSums();
        foreach (var (was, now) in Pairs(before, after))
        {
            // Also among entries that are the same: a folder may hold millions.
            if (IsOver())
                break;
            if (ChangeOf(was, now) is not { } change)
                continue;
            var sums = new DifferenceSums();
            Count(was, now, change, sums);
            if (change == EntryChange.Changed && was!.Kind == EntryKind.Folder && now!.Kind == EntryKind.Folder)
            {
                Below(was, now, sums);
                // The times of their inodes differ, and nothing that anybody asks for.
                if (sums.IsNothing && complete)
                    continue;
            }
            all.Add(sums);
            if (found.Count < most)
                found.Add(new EntryDifference(change, was, now, sums));
            else
                complete = false;
        }
        return new FolderDifferences(found.ToImmutable(), all, complete);
    }

    /// <summary>Counts what differs below two folders.</summary>
    private void Below(TreeEntry before, TreeEntry after, DifferenceSums sums)
    {
        var open = new Stack<IEnumerator<(TreeEntry?, TreeEntry?)>>([Pairs(before, after).GetEnumerator()]);
        try
        {
            while (open.TryPeek(out var at) && !IsOver())
            {
                try
                {
                    if (!at.MoveNext())
                    {
                        open.Pop().Dispose();
                        continue;
                    }
                }
                catch (StoreDamageException)
                {
                    sums.Unreadable++;
                    open.Pop().Dispose();
                    continue;
                }
                var (was, now) = at.Current;
                if (ChangeOf(was, now) is not { } change)
                    continue;
                Count(was, now, change, sums);
                if (change == EntryChange.Changed && was!.Kind == EntryKind.Folder && now!.Kind == EntryKind.Folder)
                    open.Push(Pairs(was, now).GetEnumerator());
            }
        }
        finally
        {
            foreach (var at in open)
                at.Dispose();
        }
    }

    private static void Count(TreeEntry? was, TreeEntry? now, EntryChange change, DifferenceSums sums)
    {
        switch (change)
        {
            case EntryChange.Added:
                sums.Added += 1 + Inside(now!);
                sums.AddedBytes += now!.Size;
                break;
            case EntryChange.Removed:
                sums.Removed += 1 + Inside(was!);
                sums.RemovedBytes += was!.Size;
                break;
            case EntryChange.Attributes:
                sums.Attributes++;
                break;
            // One that is of another kind now went, and another came.
            case EntryChange.Changed when was!.Kind != now!.Kind:
                Count(was, null, EntryChange.Removed, sums);
                Count(null, now, EntryChange.Added, sums);
                break;
            case EntryChange.Changed when now!.Kind == EntryKind.Folder:
                if (!SameAttributes(was!, now, times: false))
                    sums.Attributes++;
                break;
            default:
                sums.Changed++;
                sums.ChangedBytes += now!.Size;
                break;
        }
    }

    private static long Inside(TreeEntry entry) => entry.Kind == EntryKind.Folder ? entry.Items : 0;

    private static EntryChange? ChangeOf(TreeEntry? was, TreeEntry? now) =>
        was is null ? EntryChange.Added
        : now is null ? EntryChange.Removed
        : !SameContent(was, now) ? EntryChange.Changed
        : !SameAttributes(was, now, times: now.Kind != EntryKind.Folder) ? EntryChange.Attributes
        : null;

    internal static bool SameContent(TreeEntry a, TreeEntry b) =>
        a.Kind == b.Kind
        && a.Content == b.Content
        && a.Size == b.Size
        && a.Node == b.Node
        && a.LinkTarget.AsSpan().SequenceEqual(b.LinkTarget)
        && SameExtents(a.Extents, b.Extents);

    private static bool SameExtents(ImmutableArray<Extent>? a, ImmutableArray<Extent>? b) =>
        a is { } one && b is { } other ? one.AsSpan().SequenceEqual(other.AsSpan()) : a is null == b is null;

    private static bool SameAttributes(TreeEntry a, TreeEntry b, bool times) =>
        a.Mode == b.Mode
        && a.User == b.User
        && a.Group == b.Group
        && (!times || a.Modified == b.Modified)
        && a.Attributes.Length == b.Attributes.Length
        && a.Attributes.Zip(b.Attributes)
            .All(p => p.First.Name.AsSpan().SequenceEqual(p.Second.Name) && p.First.Value.AsSpan().SequenceEqual(p.Second.Value));

    /// <summary>The entries of two folders side by side, in the order of their names, which both listings have.</summary>
    private IEnumerable<(TreeEntry? Was, TreeEntry? Now)> Pairs(TreeEntry? before, TreeEntry? after)
    {
        using var left = Entries(before).GetEnumerator();
        using var right = Entries(after).GetEnumerator();
        var was = left.MoveNext() ? left.Current : null;
        var now = right.MoveNext() ? right.Current : null;
        while (was is not null || now is not null)
        {
            cancel.ThrowIfCancellationRequested();
            var order =
                was is null ? 1
                : now is null ? -1
                : was.Name.AsSpan().SequenceCompareTo(now.Name);
            yield return (order <= 0 ? was : null, order >= 0 ? now : null);
            if (order <= 0)
                was = left.MoveNext() ? left.Current : null;
            if (order >= 0)
                now = right.MoveNext() ? right.Current : null;
        }
    }

    private IEnumerable<TreeEntry> Entries(TreeEntry? folder) => folder is null ? [] : store.EnumerateFolder(folder.Content);

    private bool IsOver()
    {
        if (watch.Elapsed <= patience)
            return false;
        complete = false;
        return true;
    }
}
