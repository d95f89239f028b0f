using System.Collections.Immutable;
using System.Text.Json;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Packs;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Pooled;

/// <summary>
/// A list of packs that are to be removed. From the moment it lies in the store nobody who begins to write counts on them; they go
/// when all who were writing at that moment (<paramref name="WaitsFor"/>, lease ids) are done and none of their copies needs them.
/// </summary>
internal sealed record LeavingList(string Id, ImmutableArray<string> Packs, ImmutableArray<string> WaitsFor)
{
    private const string Folder = "leaving";
    private const string Ending = ".list";
    public string File => $"{Folder}/{Id}{Ending}";

    /// <summary>Stands in the place of the leases as long as they are not known; then every writer of the day is waited for.</summary>
    private const string NotYetKnown = "?";

    /// <summary>A list that waits for whoever may be writing.</summary>
    public static LeavingList Of(IEnumerable<string> packs) => new(Guid.NewGuid().ToString("n"), [.. packs], [NotYetKnown]);

    /// <summary>Whether somebody who was writing when the list was made may be writing still.</summary>
    public bool MustWait(IEnumerable<LeaseNote> living)
    {
        var writers = living.Where(l => l.Kind == LeaseKind.Writing).Select(l => l.Id);
        return WaitsFor.Contains(NotYetKnown) ? writers.Any() : writers.Intersect(WaitsFor).Any();
    }

    /// <summary>
    /// All lists; the files of those that cannot be read are added to <paramref name="damaged"/>. Without its list a pack stays.
    /// </summary>
    public static List<LeavingList> Read(IPlace place, ICollection<string>? damaged = null)
    {
        var lists = new List<LeavingList>();
        foreach (var file in place.List(Folder).Where(f => f.Name.EndsWith(Ending, StringComparison.Ordinal)))
        {
            try
            {
                if (
                    JsonSerializer.Deserialize(CheckedText.Read(place.Read(file.Name), file.Name), StoreJson.Default.LeavingList)
                        is { Packs.IsDefault: false, WaitsFor.IsDefault: false } list
                    && list.File == file.Name
                    && list.Packs.All(PackNames.IsName)
                )
                    lists.Add(list);
                else
                    damaged?.Add(file.Name);
            }
            catch (PlaceException e) when (e.Fault == PlaceFault.NotFound) { }
            catch (Exception e) when (e is JsonException or StoreDamageException)
            {
                damaged?.Add(file.Name);
            }
        }
        return lists;
    }

    public void Write(IPlace place) => place.Write(File, CheckedText.Write(JsonSerializer.Serialize(this, StoreJson.Default.LeavingList)));
}
