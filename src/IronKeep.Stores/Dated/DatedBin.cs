using System.Globalization;
using System.Text;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Dated;

/// <summary>The bin of a folder of dated files: a hidden folder in it, so that a file goes there and back by a rename.</summary>
public sealed partial class DatedStore
{
    /// <summary>What goes along with a file of that name.</summary>
    private static readonly string[] GoAlong = [".sha256", ".md5"];

    public bool MoveToBin(string id, DateTimeOffset now)
    {
        lock (gate)
        {
            if (Find(id) is not { IsInBin: false } copy)
                return false;
            if (!copy.IsSteady)
                throw new PlaceException(PlaceFault.Other, $"{id} changed a short while ago; it stays until it has settled");
            var (path, bin) = (
                copy.Mark.Path,
                $"{Bin}{now.UtcDateTime.ToString(StampForm, CultureInfo.InvariantCulture)}/{copy.Mark.Path}"
            );
            return Guarded(id, () =>
            {
                using var root = Open();
                using var from = Folder(root, path, make: false);
                if (!IsStill(from, path, copy.Mark))
                    return false;
                using var to = Folder(root, bin, make: true);
                // Said first: what lies in the bin and was not sent there is put back.
                if (!Remember([copy.Mark with { Path = bin, Binned = now }]))
                    throw new PlaceException(
                        PlaceFault.InUse,
                        $"{id} is looked at by another service as well; it is tried again with the next plan"
                    );
                from.RenameTo(to, NameOf(path), NameOf(bin), replace: false);
                if (!IsStill(to, bin, copy.Mark))
                {
                    // It was changed at this very moment.
                    to.RenameTo(from, NameOf(bin), NameOf(path), replace: false);
                    throw new PlaceException(PlaceFault.Other, $"{id} is written just now; it stays");
                }
                Along(from, path, to, bin);
                to.Flush();
                from.Flush();
                marks.Remove(path);
                Recompose(id, copy with { Mark = marks[bin] });
                return true;
            });
        }
    }

    public bool TakeBack(string id, DateTimeOffset now)
    {
        lock (gate)
        {
            if (Find(id) is not { IsInBin: true } copy)
                return false;
            var (bin, path) = (copy.Mark.Path, RestOf(copy.Mark.Path));
            return Guarded(id, () =>
            {
                using var root = Open();
                using var from = Folder(root, bin, make: false);
                if (from.Facts(NameOf(bin)) is not { Kind: EntryKind.File })
                    return false;
                using var to = Folder(root, path, make: true);
                // Asked before anything is remembered of that name: what is known of the other file stays as it is.
                if (to.Facts(NameOf(path)) is not null)
                    throw new PosixException(PosixException.AlreadyThere, "cannot be given its name");
                if (!Remember([copy.Mark with { Path = path, Binned = null, IsCopy = true, Since = now }]))
                    throw new PlaceException(PlaceFault.InUse, $"{id} is looked at by another service as well; try it again");
                from.RenameTo(to, NameOf(bin), NameOf(path), replace: false);
                Along(from, bin, to, path);
                to.Flush();
                from.Flush();
                marks.Remove(bin);
                Recompose(id, copy with { Id = path, Mark = marks[path] });
                return true;
            });
        }
    }

    public ReclaimReport Reclaim(DateTimeOffset binnedUntil, Func<string, bool> mayGo, CancellationToken cancel)
    {
        lock (gate)
        {
            var gone = new List<string>();
            long freed = 0;
            var waiting = 0;
            foreach (var copy in Look().Copies.Values.Where(c => c.IsInBin).OrderBy(c => c.Binned).ToList())
            {
                cancel.ThrowIfCancellationRequested();
                // What changed in the bin is not what was sent there.
                if (copy.Binned is not { } binned || binned > binnedUntil || !mayGo(copy.Id) || !Remove(copy))
                    waiting++;
                else
                {
                    gone.Add(copy.Id);
                    freed += copy.Mark.Size;
                }
            }
            Look();
            return new ReclaimReport(gone, gone.Count, 0, freed, waiting);
        }
    }

    private bool Remove(DatedCopy copy) => Guarded(copy.Id, () =>
        {
            var path = copy.Mark.Path;
            using var root = Open();
            using (var folder = Folder(root, path, make: false))
            {
                if (!IsStill(folder, path, copy.Mark))
                    return false;
                folder.Remove(NameOf(path));
                foreach (var ending in GoAlong)
                    if (folder.Facts([.. NameOf(path), .. Encoding.ASCII.GetBytes(ending)]) is { Kind: EntryKind.File })
                        folder.Remove([.. NameOf(path), .. Encoding.ASCII.GetBytes(ending)]);
                folder.Flush();
            }
            // The folders that were made for it, as far as they are empty now.
            for (var at = ParentOf(path); at.Length > Bin.Length; at = ParentOf(at))
            {
                using var above = Folder(root, at, make: false);
                try
                {
                    above.RemoveFolder(NameOf(at));
                }
                catch (PosixException)
                {
                    break;
                }
            }
            return true;
        });

    private void Recompose(string id, DatedCopy copy)
    {
        var copies = last.Copies.Where(c => c.Key != id).ToDictionary();
        copies[copy.Id] = copy;
        last = last with { Copies = copies };
    }

    /// <summary>A file's companions go where it goes; one that stays behind harms nobody.</summary>
    private static void Along(OpenFolder from, string path, OpenFolder to, string target)
    {
        foreach (var ending in GoAlong)
        {
            byte[] name = [.. NameOf(path), .. Encoding.ASCII.GetBytes(ending)];
            if (from.Facts(name) is not { Kind: EntryKind.File })
                continue;
            try
            {
                from.RenameTo(to, name, [.. NameOf(target), .. Encoding.ASCII.GetBytes(ending)], replace: false);
            }
            catch (PosixException e) when (e.Exists || e.NotFound)
            {
                // Another of that name is there already.
            }
        }
    }

    private static bool IsStill(OpenFolder folder, string path, FileMark mark) =>
        folder.Facts(NameOf(path)) is { Kind: EntryKind.File } facts && mark.Is(facts);

    private static byte[] NameOf(string path) => Encoding.UTF8.GetBytes(path[(path.LastIndexOf('/') + 1)..]);

    private static string ParentOf(string path) => path[..Math.Max(0, path.LastIndexOf('/'))];

    /// <summary>
    /// The folder that a path lies in, opened step by step below the root without following a link, and made where it may be.
    /// </summary>
    private static OpenFolder Folder(OpenFolder root, string path, bool make)
    {
        var at = root.Below(".");
        foreach (var part in ParentOf(path).Split('/', StringSplitOptions.RemoveEmptyEntries))
        {
            var name = Encoding.UTF8.GetBytes(part);
            using var above = at;
            if (make && above.Facts(name) is null)
            {
                try
                {
                    above.MakeFolder(name);
                    above.Flush();
                }
                catch (PosixException e) when (e.Exists)
                {
                    // Somebody was faster.
                }
            }
            at = above.Enter(name);
        }
        return at;
    }

    private static T Guarded<T>(string id, Func<T> change)
    {
        try
        {
            return change();
        }
        catch (PosixException e)
        {
            throw new PlaceException(
                e.AccessDenied || e.Error == 30 ? PlaceFault.AccessRefused
                    : e.NotFound ? PlaceFault.NotFound
                    : PlaceFault.Other,
                e.Exists
                    ? $"{id} stays where it is: a file of that name is where it would go; move that one away first"
                    : $"{id} stays where it is: {e.Message}",
                e
            );
        }
    }
}
