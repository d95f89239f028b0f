using IronKeep.Stores.Posix;

namespace IronKeep.Stores.Restores;

/// <summary>
/// Folders that nothing may be restored or exported into: stores, and what the service keeps for itself. Each with what it is, in words.
/// </summary>
public sealed class ForbiddenFolders(IEnumerable<(string Folder, string What)> folders)
{
    private readonly (string Folder, string What)[] all = [.. folders];

    /// <summary>
    /// Why nothing may be written at a path whose links are resolved; null when it may. Asked of the opened folder, at the moment of
    /// writing.
    /// </summary>
    public string? Reason(string real)
    {
        foreach (var (folder, what) in all)
            if (RealPaths.Contains(RealPaths.OfExistingPart(folder), real))
                return $"it lies inside {what} ({folder}); name a place outside";
        return null;
    }
}
