using IronKeep.Stores.Keys;
using IronKeep.Stores.Places;

namespace IronKeep.Stores.Pooled;

/// <summary>The wrapped root keys of a store, a file each.</summary>
internal static class KeyRing
{
    private const string Folder = "wraps";
    private const string Ending = ".wrap";

    /// <summary>Each try costs memory and time; nobody has so many secrets of a kind.</summary>
    private const int MostTried = 32,
        MostFiles = 1000;

    public static void Add(IPlace place, KeyWrap wrap) => place.Write($"{Folder}/{wrap.Id}{Ending}", wrap.ToBytes());

    /// <summary>All wraps that can be read, oldest first.</summary>
    public static List<KeyWrap> Read(IPlace place)
    {
        var wraps = new List<KeyWrap>();
        foreach (var file in Files(place))
        {
            try
            {
                wraps.Add(KeyWrap.FromBytes(place.Read(file.Name), file.Name));
            }
            catch (StoreDamageException)
            {
                // The content check names it; another may still open the store.
            }
        }
        return [.. wraps.OrderBy(w => w.Made)];
    }

    /// <summary>The files of wraps that cannot be read, with the reason.</summary>
    public static IEnumerable<(string File, string Problem)> Damaged(IPlace place)
    {
        foreach (var file in Files(place))
        {
            string? problem = null;
            try
            {
                KeyWrap.FromBytes(place.Read(file.Name), file.Name);
            }
            catch (StoreDamageException e)
            {
                problem = e.Message;
            }
            if (problem is not null)
                yield return (file.Name, problem);
        }
    }

    /// <summary>The root key; refused when no wrap opens with the secret.</summary>
    public static byte[] Open(IPlace place, Secret? secret)
    {
        var wraps = Read(place);
        if (wraps.Count == 0)
            throw new StoreDamageException(
                $"no wrapped key of the store at {place.Name} can be read: "
                    + $"{string.Join("; ", Damaged(place).Select(d => d.Problem).DefaultIfEmpty($"the folder {Folder}/ is empty"))}. Bring "
                    + $"a file of {Folder}/ back from another copy of the store"
            );
        if (secret is null)
            throw new StoreKeyException($"the store at {place.Name} is encrypted; give {Kinds(wraps)}");
        foreach (var wrap in wraps.Where(w => w.Kind == secret.Kind).Take(MostTried))
            if (wrap.Open(secret) is { } root)
                return root;
        throw new StoreKeyException(
            $"the {secret.Kind.Replace('-', ' ')} given does not open the store at {place.Name}; it opens with {Kinds(wraps)}"
        );
    }

    public static void Withdraw(IPlace place, string id)
    {
        var wraps = Read(place);
        if (wraps.TrueForAll(w => w.Id != id))
            throw new StoreKeyException($"the store at {place.Name} has no key '{id}'; 'ironkeep store key list' names them");
        if (wraps.Count == 1)
            throw new StoreKeyException(
                $"'{id}' is the last key of the store at {place.Name}; add another first, or nobody can open the store any more"
            );
        Remove(place, id);
    }

    public static bool Holds(string file) => file.StartsWith(Folder + "/", StringComparison.Ordinal);

    public static void Remove(IPlace place, string id) => place.Delete($"{Folder}/{id}{Ending}");

    private static IEnumerable<PlaceFile> Files(IPlace place) =>
        place.List(Folder).Where(f => f.Name.EndsWith(Ending, StringComparison.Ordinal)).Take(MostFiles);

    private static string Kinds(List<KeyWrap> wraps) =>
        string.Join(" or ", wraps.Select(w => $"the {w.Kind.Replace('-', ' ')} '{w.Label}'"));
}
