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
                using var root = folder.Open();
                if (!IsStill(root, path, copy.Mark))
                    return false;
                // Said first: what lies in the bin and was not sent there is put back.
                if (!Remember([copy.Mark with { Path = bin, Binned = now }]))
                    throw new PlaceException(
                        PlaceFault.InUse,
                        $"{id} is looked at by another service as well; it is tried again with the next plan"
                    );
                root.Move(path, bin);
                if (!IsStill(root, bin, copy.Mark))
                {
                    // It was changed at this very moment.
                    root.Move(bin, path);
                    throw new PlaceException(PlaceFault.Other, $"{id} is written just now; it stays");
                }
                Along(root, path, bin);
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
                using var root = folder.Open();
                if (root.Facts(bin) is not { Kind: EntryKind.File })
                    return false;
                // Asked before anything is remembered of that name: what is known of the other file stays as it is.
                if (root.Facts(path) is not null)
                    throw new PlaceException(PlaceFault.InUse, "a file of that name is where it would go; move that one away first");
                if (!Remember([copy.Mark with { Path = path, Binned = null, IsCopy = true, Since = now }]))
                    throw new PlaceException(PlaceFault.InUse, $"{id} is looked at by another service as well; try it again");
                root.Move(bin, path);
                Along(root, bin, path);
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
            using var root = folder.Open();
            if (!IsStill(root, path, copy.Mark))
                return false;
            root.Remove(path);
            foreach (var ending in GoAlong)
                if (root.Facts(path + ending) is { Kind: EntryKind.File })
                    root.Remove(path + ending);
            // The folders that were made for it, as far as they are empty now.
            for (var at = ParentOf(path); at.Length > Bin.Length && root.RemoveFolder(at); )
                at = ParentOf(at);
            return true;
        });

    private void Recompose(string id, DatedCopy copy)
    {
        var copies = last.Copies.Where(c => c.Key != id).ToDictionary();
        copies[copy.Id] = copy;
        last = last with { Copies = copies };
    }

    /// <summary>A file's companions go where it goes; one that stays behind harms nobody.</summary>
    private static void Along(IDatedRoot root, string path, string target)
    {
        foreach (var ending in GoAlong)
        {
            if (root.Facts(path + ending) is not { Kind: EntryKind.File })
                continue;
            try
            {
                root.Move(path + ending, target + ending);
            }
            catch (PlaceException e) when (e.Fault is PlaceFault.InUse or PlaceFault.NotFound)
            {
                // Another of that name is there already.
            }
        }
    }

    private static bool IsStill(IDatedRoot root, string path, FileMark mark) =>
        root.Facts(path) is { Kind: EntryKind.File } facts && mark.Is(facts);

    private static byte[] NameOf(string path) => Encoding.UTF8.GetBytes(path[(path.LastIndexOf('/') + 1)..]);

    private static string ParentOf(string path) => path[..Math.Max(0, path.LastIndexOf('/'))];

    private static T Guarded<T>(string id, Func<T> change)
    {
        try
        {
            return change();
        }
        catch (PlaceException e) when (!e.Message.StartsWith(id, StringComparison.Ordinal))
        {
            throw new PlaceException(e.Fault, $"{id} stays where it is: {e.Message}", e);
        }
    }
}
