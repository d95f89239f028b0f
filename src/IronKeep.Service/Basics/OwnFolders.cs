using IronKeep.Core.Charters;
using IronKeep.Stores.Restores;

namespace IronKeep.Service.Basics;

/// <summary>The folders that nothing is restored or exported into: the service's own, and every store's on this machine.</summary>
internal static class OwnFolders
{
    public static ForbiddenFolders Of(Charter charter, ServiceSettings settings) =>
        new(
            charter
                .Stores.Values.Where(s => s.LocalFolder is not null)
                .Select(s => (s.Folder, $"store {s.Name}"))
                .Append((settings.DataFolder, "the service's own folder"))
        );
}
