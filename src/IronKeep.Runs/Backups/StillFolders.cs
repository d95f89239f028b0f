using IronKeep.Core.Watching;
using IronKeep.Stores.Posix;

namespace IronKeep.Runs.Backups;

/// <summary>Opens what a step holds still in place of a folder. A moment that was not made must not end as an empty copy.</summary>
internal static class StillFolders
{
    /// <summary>
    /// The folder at which the moment of <paramref name="path"/> is held. Throws <see cref="RunFailedException"/> where there is none.
    /// </summary>
    public static OpenFolder Open(string path, ISourceFolder real, string at)
    {
        try
        {
            using (var still = OpenFolder.AtPath(at))
            {
                var (own, held) = (real.Facts(), still.Facts());
                if (own.Device == held.Device && own.Inode == held.Inode)
                    throw Missing($"{at} is {path}/ itself, so nothing of it is held still");
                if (still.List().Count == 0 && real.List().Count > 0)
                    throw Missing($"{at}, where a moment of {path}/ is to be held still, is empty");
            }
            // A folder gives its names once.
            return OpenFolder.AtPath(at);
        }
        catch (PosixException e)
        {
            throw Missing($"{at}, where a moment of {path}/ is to be held still, cannot be opened: {e.Message}", e);
        }
    }

    private static RunFailedException Missing(string why, Exception? inner = null) =>
        new(FailureClass.HookFailed, $"{why}; look whether the step before it made the snapshot and mounted it there", inner);
}
